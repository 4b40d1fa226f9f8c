/* Talks to soil probes on a two-wire line. */
#ifndef SOIL_PROBE_H
#define SOIL_PROBE_H

#define SOIL_PROBE_VERSION "1.0.0"

/* Opens the probe on a line; its number, or -1. */
int soil_probe_open(int line);

/* A raw reading. */
int soil_probe_read(int probe);

#endif
