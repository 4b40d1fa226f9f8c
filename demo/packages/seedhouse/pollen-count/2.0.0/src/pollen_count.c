#include "pollen_count.h"

int pollen_count(int grains, int litres)
{
    return grains * 1000 / litres;
}
