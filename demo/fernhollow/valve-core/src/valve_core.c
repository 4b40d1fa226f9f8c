#include "valve_core.h"

#include "valve_proto.h"

int valve_core_water(int valve, int minutes)
{
    return valve_proto_order(valve, 1) > 0 ? minutes * 9 : 0;
}
