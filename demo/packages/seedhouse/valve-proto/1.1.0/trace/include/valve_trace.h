/* Writes down every order and its answer. */
#ifndef VALVE_TRACE_H
#define VALVE_TRACE_H

void valve_trace(int valve, int open);

#endif
