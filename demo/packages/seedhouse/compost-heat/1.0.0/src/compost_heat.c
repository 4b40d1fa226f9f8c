#include "compost_heat.h"

int compost_heat(int tenths)
{
    return tenths / 2;
}
