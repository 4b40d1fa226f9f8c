#include "valve_trace.h"
#include "bark_log.h"

#include <stdio.h>

void valve_trace(int valve, int open)
{
    char line[40];
    snprintf(line, sizeof line, "valve %d %s", valve, open ? "open" : "shut");
    bark_log(line);
}
