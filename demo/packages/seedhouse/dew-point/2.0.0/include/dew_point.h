/* Dew point from temperature and humidity. */
#ifndef DEW_POINT_H
#define DEW_POINT_H

#define DEW_POINT_VERSION "2.0.0"

/* Dew point in hundredths of a degree. */
int dew_point_fine(int hundredths, int humidity);

#endif
