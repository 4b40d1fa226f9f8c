/* What pergola draws with on this chip. */
#ifndef PERGOLA_CHIP_H
#define PERGOLA_CHIP_H

#define PERGOLA_CHIP "x86_64"
#define PERGOLA_CHIP_LANES 8

#endif
