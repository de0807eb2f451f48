#ifndef WARTHESIS_PAGESUM_H
#define WARTHESIS_PAGESUM_H

#include <stdint.h>

/* wps_register makes the file system layer "pagesum" known to SQLite, and returns a
** result code of SQLite. It must be called before the first connection opens. */
int wps_register(void);

/* A wps_counter counts the pages of one file that were read with a wrong sum since the
** process started, and has the number of the last one. Counters are never freed: there is
** one for each file name that was opened or asked for. */
typedef struct wps_counter wps_counter;

/* wps_counter_of returns the counter of a file by its full name without symbolic links,
** or NULL where there is no memory. */
wps_counter *wps_counter_of(const char *name);
uint64_t wps_failures(const wps_counter *counter);
uint32_t wps_failed_page(const wps_counter *counter);

/* wps_sum returns the sum of a page over the first n bytes, with its number. */
uint64_t wps_sum(const unsigned char *page, int n, uint32_t number);

#endif
