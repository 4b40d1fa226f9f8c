#include "pond_level.h"

int pond_level(int centimetres)
{
    return centimetres / 2;
}
