#define LEVEL 3.42
