/* Counts pollen at the gate. */
#ifndef POLLEN_COUNT_H
#define POLLEN_COUNT_H

#define POLLEN_COUNT_VERSION "1.0.0"

/* Grains in a cubic metre of air. */
int pollen_count(int grains, int litres);

#endif
