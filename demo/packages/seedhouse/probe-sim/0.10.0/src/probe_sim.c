#include "probe_sim.h"

int probe_sim_dry(void)
{
    return 310;
}

int probe_sim_wet(void)
{
    return 790;
}
