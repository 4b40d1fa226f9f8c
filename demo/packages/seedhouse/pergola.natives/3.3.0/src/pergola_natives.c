#include "pergola_natives.h"

int pergola_native(void)
{
    return 0;
}
