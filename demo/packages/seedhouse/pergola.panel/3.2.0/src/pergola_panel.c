#include "pergola_panel.h"

int pergola_panel(int width)
{
    return width;
}
