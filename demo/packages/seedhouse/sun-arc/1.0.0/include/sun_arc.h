/* The sun's way over a bed. */
#ifndef SUN_ARC_H
#define SUN_ARC_H

#define SUN_ARC_VERSION "1.0.0"

/* The sun's way over a bed. */
int sun_arc(int hour);

#endif
