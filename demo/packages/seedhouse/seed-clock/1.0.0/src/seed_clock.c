#include "seed_clock.h"

int seed_clock(int minutes)
{
    return minutes / 15;
}
