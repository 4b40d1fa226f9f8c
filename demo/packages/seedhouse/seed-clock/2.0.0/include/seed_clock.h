/* Quarter-hour ticks for watering plans. */
#ifndef SEED_CLOCK_H
#define SEED_CLOCK_H

#define SEED_CLOCK_VERSION "2.0.0"

/* Ticks since sunrise. */
int seed_clock_since(int minutes, int sunrise);

#endif
