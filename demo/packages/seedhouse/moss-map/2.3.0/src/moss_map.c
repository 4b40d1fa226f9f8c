#include "moss_map.h"

int moss_map_likes(int shade, int wet)
{
    return shade > 6 && wet > 5;
}
