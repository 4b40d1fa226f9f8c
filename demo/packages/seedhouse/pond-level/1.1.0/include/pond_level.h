/* Fills the pond and no more. */
#ifndef POND_LEVEL_H
#define POND_LEVEL_H

#define POND_LEVEL_VERSION "1.1.0"

/* Fills the pond and no more. */
int pond_level(int centimetres);

#endif
