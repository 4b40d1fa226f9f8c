#include "night_frost.h"

int night_frost_old(int tenths)
{
    return tenths <= 0;
}
