/* Stands for a phone's own first program: says that it runs and what it finds, and switches the
 * machine off. Freestanding, so that the ramdisk needs nothing else. */

#include "linux_call.h"

static void say(const char* text) {
  long size = 0;
  while (text[size])
    ++size;
  call(SYS_WRITE, CONSOLE, (long)text, size, 0);
}

__attribute__((used)) void begin(const long* stack) {
  (void)stack;
  say("stock init: running\n");
  if (call(SYS_FACCESSAT, FROM_ROOT, (long)"/vendor-was-here", 0, 0) == 0)
    say("stock init: the vendor ramdisk is below\n");
  /* The two magic numbers of reboot(2), and "power off". */
  call(SYS_REBOOT, 0xfee1deadL, 672274793L, 0x4321fedcL, 0);
  for (;;) {
  }
}
