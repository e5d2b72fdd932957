#include "lights.h"

#include <stdio.h>
#include <stdlib.h>

int main(int count, char **arguments)
{
    const struct light *light = light_at(count > 1 ? strtoul(arguments[1], NULL, 10) : 0);
    if (!light)
        return EXIT_FAILURE;
    printf("%s: %s, every %u s\n", light->place, light->colour, light->seconds);
    return EXIT_SUCCESS;
}
