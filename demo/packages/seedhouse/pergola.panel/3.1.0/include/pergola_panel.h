/* Drawing on small screens: panels and buttons. */
#ifndef PERGOLA_PANEL_H
#define PERGOLA_PANEL_H

#define PERGOLA_PANEL_VERSION "3.1.0"

/* Draws a panel. */
int pergola_panel(int width);

#endif
