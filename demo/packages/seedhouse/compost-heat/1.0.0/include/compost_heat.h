/* Whether the heap is still working. */
#ifndef COMPOST_HEAT_H
#define COMPOST_HEAT_H

#define COMPOST_HEAT_VERSION "1.0.0"

/* Whether the heap is still working. */
int compost_heat(int tenths);

#endif
