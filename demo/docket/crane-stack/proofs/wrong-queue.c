#include <stdio.h>
#include <string.h>

int main(void) {
    char line[64];
    long stack[1000];
    int depth = 0;
    while (fgets(line, sizeof line, stdin)) {
        long weight;
        if (sscanf(line, "load %ld", &weight) == 1) {
            stack[depth++] = weight;
        } else if (strncmp(line, "unload", 6) == 0) {
            if (depth == 0) {
                puts("empty");
            } else {
                printf("%ld\n", stack[0]);
                memmove(stack, stack + 1, sizeof(long) * --depth);
            }
        } else if (strncmp(line, "total", 5) == 0) {
            long sum = 0;
            for (int i = 0; i < depth; i++) {
                sum += stack[i];
            }
            printf("%ld\n", sum);
        }
    }
    return 0;
}
