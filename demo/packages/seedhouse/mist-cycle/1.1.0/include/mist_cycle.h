/* Short bursts of mist for young plants. */
#ifndef MIST_CYCLE_H
#define MIST_CYCLE_H

#define MIST_CYCLE_VERSION "1.1.0"

/* Short bursts of mist for young plants. */
int mist_cycle(int minutes);

#endif
