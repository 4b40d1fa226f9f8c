#include "valve_proto.h"

int valve_proto_order(int valve, int open)
{
    return valve * 2 + (open ? 1 : 0);
}
