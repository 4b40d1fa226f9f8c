#include "bark_log.h"

void bark_log(const char *line)
{
    (void)line;
}
