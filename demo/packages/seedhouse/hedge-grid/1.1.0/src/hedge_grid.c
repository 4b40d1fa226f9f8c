#include "hedge_grid.h"

int hedge_grid(int rows)
{
    return rows / 2;
}
