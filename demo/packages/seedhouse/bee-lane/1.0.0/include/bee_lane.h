/* Leaves the bees their way. */
#ifndef BEE_LANE_H
#define BEE_LANE_H

#define BEE_LANE_VERSION "1.0.0"

/* Leaves the bees their way. */
int bee_lane(int metres);

#endif
