#include "night_frost.h"

int night_frost(int tenths)
{
    return tenths <= 20;
}
