/*
** A layer between SQLite and the operating system's files that keeps a sum in the last
** eight bytes of each page of a database file, and checks it whenever a page is read.
** The database must have eight reserved bytes a page; other databases pass unchanged.
**
** Only the main database file is covered. Frames of the write-ahead log have sums of
** SQLite's own. A page with a wrong sum is counted and handed on as it is: what then
** must stop is decided above.
**
** The declarations below are those of SQLite's public interface, which is stable.
*/
#include <pthread.h>
#include <stdatomic.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>

#include "pagesum.h"

typedef long long sqlite3_int64;
typedef struct sqlite3_file sqlite3_file;
typedef struct sqlite3_io_methods sqlite3_io_methods;
typedef struct sqlite3_vfs sqlite3_vfs;

struct sqlite3_file {
  const sqlite3_io_methods *pMethods;
};
struct sqlite3_io_methods {
  int iVersion;
  int (*xClose)(sqlite3_file*);
  int (*xRead)(sqlite3_file*, void*, int, sqlite3_int64);
  int (*xWrite)(sqlite3_file*, const void*, int, sqlite3_int64);
  int (*xTruncate)(sqlite3_file*, sqlite3_int64);
  int (*xSync)(sqlite3_file*, int);
  int (*xFileSize)(sqlite3_file*, sqlite3_int64*);
  int (*xLock)(sqlite3_file*, int);
  int (*xUnlock)(sqlite3_file*, int);
  int (*xCheckReservedLock)(sqlite3_file*, int*);
  int (*xFileControl)(sqlite3_file*, int, void*);
  int (*xSectorSize)(sqlite3_file*);
  int (*xDeviceCharacteristics)(sqlite3_file*);
  int (*xShmMap)(sqlite3_file*, int, int, int, void volatile**);
  int (*xShmLock)(sqlite3_file*, int, int, int);
  void (*xShmBarrier)(sqlite3_file*);
  int (*xShmUnmap)(sqlite3_file*, int);
  int (*xFetch)(sqlite3_file*, sqlite3_int64, int, void**);
  int (*xUnfetch)(sqlite3_file*, sqlite3_int64, void*);
};
typedef void (*sqlite3_syscall_ptr)(void);
struct sqlite3_vfs {
  int iVersion;
  int szOsFile;
  int mxPathname;
  sqlite3_vfs *pNext;
  const char *zName;
  void *pAppData;
  int (*xOpen)(sqlite3_vfs*, const char*, sqlite3_file*, int, int*);
  int (*xDelete)(sqlite3_vfs*, const char*, int);
  int (*xAccess)(sqlite3_vfs*, const char*, int, int*);
  int (*xFullPathname)(sqlite3_vfs*, const char*, int, char*);
  void *(*xDlOpen)(sqlite3_vfs*, const char*);
  void (*xDlError)(sqlite3_vfs*, int, char*);
  void (*(*xDlSym)(sqlite3_vfs*, void*, const char*))(void);
  void (*xDlClose)(sqlite3_vfs*, void*);
  int (*xRandomness)(sqlite3_vfs*, int, char*);
  int (*xSleep)(sqlite3_vfs*, int);
  int (*xCurrentTime)(sqlite3_vfs*, double*);
  int (*xGetLastError)(sqlite3_vfs*, int, char*);
  int (*xCurrentTimeInt64)(sqlite3_vfs*, sqlite3_int64*);
  int (*xSetSystemCall)(sqlite3_vfs*, const char*, sqlite3_syscall_ptr);
  sqlite3_syscall_ptr (*xGetSystemCall)(sqlite3_vfs*, const char*);
  const char *(*xNextSystemCall)(sqlite3_vfs*, const char*);
};
extern sqlite3_vfs *sqlite3_vfs_find(const char *zVfsName);
extern int sqlite3_vfs_register(sqlite3_vfs*, int makeDflt);

#define SQLITE_OK 0
#define SQLITE_ERROR 1
#define SQLITE_NOMEM 7
#define SQLITE_OPEN_MAIN_DB 0x00000100

enum { SUM = 8, LEAST_PAGE = 512, MOST_PAGE = 65536 };

/* A SumFile is followed by the file of the layer below. */
typedef struct SumFile {
  sqlite3_file base;
  int on; /* the file has room for sums in its pages */
  wps_counter *counter;
} SumFile;

struct wps_counter {
  char *name;
  wps_counter *next;
  _Atomic uint64_t failures;
  _Atomic uint32_t page;
};

static sqlite3_vfs *below;
/* The counters, under the mutex. */
static wps_counter *counters;
static pthread_mutex_t counters_mutex = PTHREAD_MUTEX_INITIALIZER;

#define FILE_BELOW(f) ((sqlite3_file*)((char*)(f) + ((sizeof(SumFile) + 7) & ~(size_t)7)))
#define CALL(f, method, ...) (FILE_BELOW(f)->pMethods->method(FILE_BELOW(f), ##__VA_ARGS__))

uint64_t wps_failures(const wps_counter *counter) { return atomic_load(&counter->failures); }
uint32_t wps_failed_page(const wps_counter *counter) { return atomic_load(&counter->page); }

wps_counter *wps_counter_of(const char *name) {
  wps_counter *c;
  pthread_mutex_lock(&counters_mutex);
  for (c = counters; c && strcmp(c->name, name) != 0; c = c->next) {}
  if (!c && (c = calloc(1, sizeof *c)) != 0) {
    c->name = strdup(name);
    if (!c->name) {
      free(c);
      c = 0;
    } else {
      c->next = counters;
      counters = c;
    }
  }
  pthread_mutex_unlock(&counters_mutex);
  return c;
}

/* Two sums over words, as Fletcher's, that also depend on where each word stands. */
uint64_t wps_sum(const unsigned char *page, int n, uint32_t number) {
  uint64_t a = 0x9e3779b97f4a7c15ull ^ number, b = 0xc2b2ae3d27d4eb4full;
  int i;
  for (i = 0; i + 8 <= n; i += 8) {
    uint64_t w;
    memcpy(&w, page + i, 8);
    a = (a ^ w) * 0x9fb21c651e98df25ull;
    a ^= a >> 29;
    b = b * 31 + a;
  }
  b ^= a;
  b ^= b >> 33;
  b *= 0xff51afd7ed558ccdull;
  b ^= b >> 33;
  return b;
}

static int is_page(int amount, sqlite3_int64 offset) {
  return amount >= LEAST_PAGE && amount <= MOST_PAGE && (amount & (amount - 1)) == 0 && offset % amount == 0;
}

/* The header of a database says in its byte 20 how many bytes of a page are reserved. */
static void look_at_header(SumFile *f, const unsigned char *data, int amount, sqlite3_int64 offset) {
  if (offset == 0 && amount >= 100 && memcmp(data, "SQLite format 3", 16) == 0) f->on = data[20] == SUM;
}

static int sum_read(sqlite3_file *file, void *buffer, int amount, sqlite3_int64 offset) {
  SumFile *f = (SumFile*)file;
  int rc = CALL(file, xRead, buffer, amount, offset);
  if (rc != SQLITE_OK) return rc;
  look_at_header(f, buffer, amount, offset);
  if (f->on && is_page(amount, offset)) {
    uint32_t number = (uint32_t)(offset / amount) + 1;
    uint64_t kept, found = wps_sum(buffer, amount - SUM, number);
    memcpy(&kept, (char*)buffer + amount - SUM, SUM);
    if (kept != found) {
      atomic_store(&f->counter->page, number);
      atomic_fetch_add(&f->counter->failures, 1);
    }
  }
  return rc;
}

static int sum_write(sqlite3_file *file, const void *data, int amount, sqlite3_int64 offset) {
  SumFile *f = (SumFile*)file;
  look_at_header(f, data, amount, offset);
  if (f->on && is_page(amount, offset)) {
    unsigned char page[MOST_PAGE];
    uint64_t sum;
    memcpy(page, data, amount - SUM);
    sum = wps_sum(page, amount - SUM, (uint32_t)(offset / amount) + 1);
    memcpy(page + amount - SUM, &sum, SUM);
    return CALL(file, xWrite, page, amount, offset);
  }
  return CALL(file, xWrite, data, amount, offset);
}

static int sum_close(sqlite3_file *file) {
  int rc = CALL(file, xClose);
  file->pMethods = 0;
  return rc;
}
static int sum_truncate(sqlite3_file *f, sqlite3_int64 size) { return CALL(f, xTruncate, size); }
static int sum_sync(sqlite3_file *f, int flags) { return CALL(f, xSync, flags); }
static int sum_file_size(sqlite3_file *f, sqlite3_int64 *size) { return CALL(f, xFileSize, size); }
static int sum_lock(sqlite3_file *f, int lock) { return CALL(f, xLock, lock); }
static int sum_unlock(sqlite3_file *f, int lock) { return CALL(f, xUnlock, lock); }
static int sum_check_reserved_lock(sqlite3_file *f, int *out) { return CALL(f, xCheckReservedLock, out); }
static int sum_file_control(sqlite3_file *f, int op, void *arg) { return CALL(f, xFileControl, op, arg); }
static int sum_sector_size(sqlite3_file *f) { return CALL(f, xSectorSize); }
static int sum_device_characteristics(sqlite3_file *f) { return CALL(f, xDeviceCharacteristics); }
static int sum_shm_map(sqlite3_file *f, int page, int size, int extend, void volatile **out) { return CALL(f, xShmMap, page, size, extend, out); }
static int sum_shm_lock(sqlite3_file *f, int offset, int n, int flags) { return CALL(f, xShmLock, offset, n, flags); }
static void sum_shm_barrier(sqlite3_file *f) { CALL(f, xShmBarrier); }
static int sum_shm_unmap(sqlite3_file *f, int del) { return CALL(f, xShmUnmap, del); }
/* Pages that are mapped into memory would be read unchecked: there are none. */
static int sum_fetch(sqlite3_file *f, sqlite3_int64 offset, int amount, void **out) {
  (void)f, (void)offset, (void)amount;
  *out = 0;
  return SQLITE_OK;
}
static int sum_unfetch(sqlite3_file *f, sqlite3_int64 offset, void *page) {
  (void)f, (void)offset, (void)page;
  return SQLITE_OK;
}

static const sqlite3_io_methods methods = {
  3, sum_close, sum_read, sum_write, sum_truncate, sum_sync, sum_file_size, sum_lock, sum_unlock, sum_check_reserved_lock,
  sum_file_control, sum_sector_size, sum_device_characteristics, sum_shm_map, sum_shm_lock, sum_shm_barrier, sum_shm_unmap,
  sum_fetch, sum_unfetch,
};

static int sum_open(sqlite3_vfs *vfs, const char *name, sqlite3_file *file, int flags, int *out) {
  SumFile *f = (SumFile*)file;
  int rc;
  (void)vfs;
  if ((flags & SQLITE_OPEN_MAIN_DB) == 0) return below->xOpen(below, name, file, flags, out);
  memset(f, 0, sizeof *f);
  FILE_BELOW(f)->pMethods = 0;
  f->counter = wps_counter_of(name ? name : "");
  if (!f->counter) return SQLITE_NOMEM;
  rc = below->xOpen(below, name, FILE_BELOW(f), flags, out);
  if (FILE_BELOW(f)->pMethods) file->pMethods = &methods;
  return rc;
}

static sqlite3_vfs layer;

int wps_register(void) {
  below = sqlite3_vfs_find(0);
  if (!below) return SQLITE_ERROR;
  /* All but opening is the layer's below, which gets no file of ours by these. */
  layer = *below;
  layer.pNext = 0;
  layer.zName = "pagesum";
  layer.szOsFile = (int)((sizeof(SumFile) + 7) & ~(size_t)7) + below->szOsFile;
  layer.xOpen = sum_open;
  return sqlite3_vfs_register(&layer, 0);
}
