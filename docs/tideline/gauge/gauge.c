#include <stdio.h>
#include <astro/moon.h>
#include "level.h"
int main(void) { printf("%.2f m, springs every %.2f days\n", LEVEL, SPRING); return 0; }
