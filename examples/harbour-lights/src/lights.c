#include "lights.h"

#include <stddef.h>

static const struct light lights[] = {
    {"pier", "green", 4},
    {"breakwater", "red", 4},
    {"skerry", "white", 10},
};

const struct light *light_at(unsigned long number)
{
    return number < sizeof lights / sizeof *lights ? &lights[number] : NULL;
}
