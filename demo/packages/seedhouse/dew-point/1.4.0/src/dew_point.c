#include "dew_point.h"

int dew_point(int tenths, int humidity)
{
    return tenths - (1000 - humidity * 10) / 5;
}

int dew_falls(int tenths_tonight, int dew)
{
    return tenths_tonight <= dew;
}
