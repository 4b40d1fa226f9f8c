/* Soil probes for a desk without soil. */
#ifndef PROBE_SIM_H
#define PROBE_SIM_H

#define PROBE_SIM_VERSION "0.9.2"

/* A reading such as a dry bed would give. */
int probe_sim_dry(void);

/* A reading such as a wet bed would give. */
int probe_sim_wet(void);

#endif
