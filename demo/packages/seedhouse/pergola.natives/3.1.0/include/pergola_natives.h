/* Drawing on small screens: what each chip does best. */
#ifndef PERGOLA_NATIVES_H
#define PERGOLA_NATIVES_H

#define PERGOLA_NATIVES_VERSION "3.1.0"

/* Whether this chip helps. */
int pergola_native(void);

#endif
