#include "rain_ledger.h"

int rain_ledger_sum(const int *tips, int count)
{
    int sum = 0;
    for (int i = 0; i < count; i++)
        sum += tips[i];
    return sum / 2;
}

int rain_ledger_enough(int millimetres)
{
    return millimetres >= 4;
}
