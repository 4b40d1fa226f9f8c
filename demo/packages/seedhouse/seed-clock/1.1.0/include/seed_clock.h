/* Quarter-hour ticks for watering plans. */
#ifndef SEED_CLOCK_H
#define SEED_CLOCK_H

#define SEED_CLOCK_VERSION "1.1.0"

/* Ticks of the garden's clock, four an hour. */
int seed_clock(int minutes);

/* Whether a new day begins with this tick. */
int seed_clock_midnight(int ticks);

#endif
