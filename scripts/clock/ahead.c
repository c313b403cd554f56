/* A wall clock that is some seconds off, for programs under test: only the time of day is another. What measures how
 * long something takes, waits, or the times of files, is left as it is; a library that changes those too breaks
 * protocols with time limits. Loaded by LD_PRELOAD; TIDESTEP_TEST_AHEAD says how many. */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <stdlib.h>
#include <sys/time.h>
#include <time.h>

static long ahead(void) {
  static long known;
  static int read;
  if (!read) {
    const char *said = getenv("TIDESTEP_TEST_AHEAD");
    known = said ? atol(said) : 0;
    read = 1;
  }
  return known;
}

int clock_gettime(clockid_t clock, struct timespec *at) {
  static int (*real)(clockid_t, struct timespec *);
  if (!real) real = (int (*)(clockid_t, struct timespec *))dlsym(RTLD_NEXT, "clock_gettime");
  int status = real(clock, at);
  if (status == 0 && (clock == CLOCK_REALTIME || clock == CLOCK_REALTIME_COARSE)) at->tv_sec += ahead();
  return status;
}

int gettimeofday(struct timeval *restrict at, void *restrict zone) {
  struct timespec now;
  (void)zone;
  if (clock_gettime(CLOCK_REALTIME, &now)) return -1;
  at->tv_sec = now.tv_sec;
  at->tv_usec = now.tv_nsec / 1000;
  return 0;
}

time_t time(time_t *at) {
  struct timespec now;
  clock_gettime(CLOCK_REALTIME, &now);
  if (at) *at = now.tv_sec;
  return now.tv_sec;
}
