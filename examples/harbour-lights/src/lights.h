#ifndef LIGHTS_H
#define LIGHTS_H

struct light {
    const char *place;
    const char *colour;
    unsigned seconds;
};

/* The light with a number; a null pointer when there is none. */
const struct light *light_at(unsigned long number);

#endif
