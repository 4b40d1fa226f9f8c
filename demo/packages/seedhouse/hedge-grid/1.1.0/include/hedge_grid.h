/* Beds and paths as a grid. */
#ifndef HEDGE_GRID_H
#define HEDGE_GRID_H

#define HEDGE_GRID_VERSION "1.1.0"

/* Beds and paths as a grid. */
int hedge_grid(int rows);

#endif
