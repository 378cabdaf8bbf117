/* The demo's add-on: takes init's place, says so on the console, and hands over to the stock init
 * that the recipe kept. Freestanding, so that it needs nothing that a first ramdisk does not have.
 */

#include "linux_call.h"

static const char kStock[] = "/wexlo/stock/init";
static const char kHello[] = "wexlo add-on: started before the stock init\n";
static const char kNoStock[] = "wexlo add-on: the stock init is not where the recipe keeps it\n";

static void say(const char* text, long size) {
  /* The kernel's log reaches the console, and needs no device node but its own. */
  const long log = call(SYS_OPENAT, FROM_ROOT, (long)"/dev/kmsg", WRITE_ONLY | NOT_THE_TERMINAL, 0);
  call(SYS_WRITE, log >= 0 ? log : 1, (long)text, size, 0);
  if (log >= 0) call(SYS_CLOSE, log, 0, 0, 0);
}

/* The start of the stack: argument count, arguments, 0, environment, 0. */
__attribute__((used)) void begin(long* stack) {
  char** arguments = (char**)(stack + 1);
  char** environment = arguments + stack[0] + 1;
  say(kHello, sizeof kHello - 1);
  call(SYS_EXECVE, (long)kStock, (long)arguments, (long)environment, 0);
  say(kNoStock, sizeof kNoStock - 1);
  call(SYS_EXIT, 1, 0, 0, 0);
}
