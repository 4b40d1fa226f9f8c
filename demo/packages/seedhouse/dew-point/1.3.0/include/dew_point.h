/* Dew point from temperature and humidity. */
#ifndef DEW_POINT_H
#define DEW_POINT_H

#define DEW_POINT_VERSION "1.3.0"

/* Dew point in tenths of a degree, by the rule of thumb that holds above half humidity. */
int dew_point(int tenths, int humidity);

/* Whether leaves get wet tonight. */
int dew_falls(int tenths_tonight, int dew);

#endif
