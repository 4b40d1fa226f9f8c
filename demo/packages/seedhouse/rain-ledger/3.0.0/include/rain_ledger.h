/* Keeps the account of rain, bed by bed. */
#ifndef RAIN_LEDGER_H
#define RAIN_LEDGER_H

#define RAIN_LEDGER_VERSION "3.0.0"

/* Millimetres of rain in a list of half-millimetre tips. */
int rain_ledger_sum(const int *tips, int count);

/* Whether a bed can go without water today. */
int rain_ledger_enough(int millimetres);

#endif
