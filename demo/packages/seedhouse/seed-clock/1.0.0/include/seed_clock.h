/* Quarter-hour ticks for watering plans. */
#ifndef SEED_CLOCK_H
#define SEED_CLOCK_H

#define SEED_CLOCK_VERSION "1.0.0"

/* Ticks of the garden's clock, four an hour. */
int seed_clock(int minutes);

#endif
