/* Warns of frost before it comes. */
#ifndef NIGHT_FROST_H
#define NIGHT_FROST_H

#define NIGHT_FROST_VERSION "1.1.0"

/* Whether frost is likely. */
int night_frost(int tenths);

#endif
