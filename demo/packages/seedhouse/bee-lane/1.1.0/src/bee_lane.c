#include "bee_lane.h"

int bee_lane(int metres)
{
    return metres / 2;
}
