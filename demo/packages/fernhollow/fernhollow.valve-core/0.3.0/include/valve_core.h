/* Watering by valve, before litres were counted. */
#ifndef VALVE_CORE_H
#define VALVE_CORE_H

/* Opens a valve for some minutes. */
void valve_core_water(int valve, int minutes);

#endif
