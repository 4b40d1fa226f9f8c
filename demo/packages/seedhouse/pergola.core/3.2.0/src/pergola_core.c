#include "pergola_core.h"

int pergola_begin(void)
{
    return 0;
}
