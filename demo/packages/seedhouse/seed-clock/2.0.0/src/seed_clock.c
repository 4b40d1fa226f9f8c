#include "seed_clock.h"

int seed_clock_since(int minutes, int sunrise)
{
    return (minutes - sunrise) / 15;
}
