/* What pergola draws with on this chip. */
#ifndef PERGOLA_CHIP_H
#define PERGOLA_CHIP_H

#define PERGOLA_CHIP "aarch64"
#define PERGOLA_CHIP_LANES 4

#endif
