#include "mist_cycle.h"

int mist_cycle(int minutes)
{
    return minutes / 2;
}
