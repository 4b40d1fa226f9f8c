#include "soil_curve.h"

int soil_curve(int raw)
{
    return raw <= 300 ? 0 : raw >= 800 ? 100 : (raw - 300) / 5;
}
