/* A log that forgets by itself. */
#ifndef BARK_LOG_H
#define BARK_LOG_H

#define BARK_LOG_VERSION "1.0.0"

/* Notes a line in the log. */
void bark_log(const char *line);

#endif
