/* Orders to valves and their answers. */
#ifndef VALVE_PROTO_H
#define VALVE_PROTO_H

#define VALVE_PROTO_VERSION "1.0.0"

/* Packs an order to a valve. */
int valve_proto_order(int valve, int open);

#endif
