/* Our old frost warning, from before there was another. */
#ifndef NIGHT_FROST_H
#define NIGHT_FROST_H

#define NIGHT_FROST_VERSION "0.2.0"

/* Whether frost is likely. */
int night_frost_old(int tenths);

#endif
