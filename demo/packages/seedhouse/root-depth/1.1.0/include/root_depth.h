/* How deep water has to go. */
#ifndef ROOT_DEPTH_H
#define ROOT_DEPTH_H

#define ROOT_DEPTH_VERSION "1.1.0"

/* How deep water has to go. */
int root_depth(int weeks);

#endif
