#include "root_depth.h"

int root_depth(int weeks)
{
    return weeks / 2;
}
