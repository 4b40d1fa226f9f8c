#include "dew_point.h"

int dew_point_fine(int hundredths, int humidity)
{
    return hundredths - (10000 - humidity * 100) / 5;
}
