#include "soil_probe.h"

int soil_probe_open(int line)
{
    return line < 8 ? line : -1;
}

int soil_probe_read(int probe)
{
    return 300 + probe * 50;
}
