#include <stdio.h>
#include <stdlib.h>
#include <astro/moon.h>
int main(void) { for (int i = 0; i < 12; i++) printf("%s, spring %d after %.1f days\n", getenv("YEAR"), i, i * SPRING); return 0; }
