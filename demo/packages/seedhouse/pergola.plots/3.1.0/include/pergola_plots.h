/* Drawing on small screens: curves over time. */
#ifndef PERGOLA_PLOTS_H
#define PERGOLA_PLOTS_H

#define PERGOLA_PLOTS_VERSION "3.1.0"

/* Draws a curve. */
int pergola_plot(int points);

#endif
