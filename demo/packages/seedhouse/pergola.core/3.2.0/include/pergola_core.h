/* Drawing on small screens: the beams. */
#ifndef PERGOLA_CORE_H
#define PERGOLA_CORE_H

#define PERGOLA_CORE_VERSION "3.2.0"

/* Begins a frame. */
int pergola_begin(void);

#endif
