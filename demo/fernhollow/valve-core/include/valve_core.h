/* Watering by valve. */
#ifndef VALVE_CORE_H
#define VALVE_CORE_H

/* Opens a valve for some minutes; the litres that it took. */
int valve_core_water(int valve, int minutes);

#endif
