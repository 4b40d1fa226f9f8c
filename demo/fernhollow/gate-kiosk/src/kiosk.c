/* The screen at the gate: what is watered today. */
#include <stdio.h>

#include "rain_ledger.h"
#include "soil_curve.h"

int main(void)
{
    const int tips[] = {3, 0, 2, 4};
    int rain = rain_ledger_sum(tips, 4);

    printf("%d mm of rain, soil at %d %%: %s\n", rain, soil_curve(560),
           rain_ledger_enough(rain) ? "no watering today" : "watering tonight");
    return 0;
}
