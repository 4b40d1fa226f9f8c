/* Turns probe readings into soil moisture. */
#ifndef SOIL_CURVE_H
#define SOIL_CURVE_H

#define SOIL_CURVE_VERSION "1.7.0"

/* Soil moisture in percent from a probe's raw reading. */
int soil_curve(int raw);

#endif
