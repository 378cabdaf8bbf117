/* The second program of the demo's root package: says that it was unpacked and runs. */

#include "addon/linux_call.h"

static const char kLine[] = "tide keeper: unpacked and running\n";

__attribute__((used)) void begin(const long* stack) {
  (void)stack;
  const long log = call(SYS_OPENAT, FROM_ROOT, (long)"/dev/kmsg", WRITE_ONLY | NOT_THE_TERMINAL, 0);
  call(SYS_WRITE, log >= 0 ? log : CONSOLE, (long)kLine, sizeof kLine - 1, 0);
  call(SYS_EXIT, 0, 0, 0, 0);
}
