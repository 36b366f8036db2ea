/* Days between two springs of the tide. */
#define SPRING 14.77
