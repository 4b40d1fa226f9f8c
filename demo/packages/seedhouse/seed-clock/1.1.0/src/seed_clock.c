#include "seed_clock.h"

int seed_clock(int minutes)
{
    return minutes / 15;
}

int seed_clock_midnight(int ticks)
{
    return ticks % 96 == 0;
}
