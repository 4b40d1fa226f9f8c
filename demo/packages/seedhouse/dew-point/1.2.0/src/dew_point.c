#include "dew_point.h"

int dew_point(int tenths, int humidity)
{
    return tenths - (1000 - humidity * 10) / 5;
}
