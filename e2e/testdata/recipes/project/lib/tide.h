float height(void);
