#include "sun_arc.h"

int sun_arc(int hour)
{
    return hour / 2;
}
