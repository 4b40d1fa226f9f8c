/* Where moss likes to grow, as a map of beds. */
#ifndef MOSS_MAP_H
#define MOSS_MAP_H

#define MOSS_MAP_VERSION "2.3.0"

/* Whether moss would like a bed. */
int moss_map_likes(int shade, int wet);

#endif
