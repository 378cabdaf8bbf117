/* Stands for a phone's own first program: says that it runs and what it finds, and switches the
 * machine off. Freestanding, so that the ramdisk needs nothing else. */

enum { SYS_FACCESSAT = 48, SYS_WRITE = 64, SYS_REBOOT = 142 };

static long call(long number, long a, long b, long c, long d) {
  register long x8 __asm__("x8") = number;
  register long x0 __asm__("x0") = a;
  register long x1 __asm__("x1") = b;
  register long x2 __asm__("x2") = c;
  register long x3 __asm__("x3") = d;
  __asm__ volatile("svc 0" : "+r"(x0) : "r"(x8), "r"(x1), "r"(x2), "r"(x3) : "memory");
  return x0;
}

enum { FROM_ROOT = -100, CONSOLE = 1 };

static void say(const char* text) {
  long size = 0;
  while (text[size])
    ++size;
  call(SYS_WRITE, CONSOLE, (long)text, size, 0);
}

__attribute__((used)) void _start(void) {
  say("stock init: running\n");
  if (call(SYS_FACCESSAT, FROM_ROOT, (long)"/vendor-was-here", 0, 0) == 0)
    say("stock init: the vendor ramdisk is below\n");
  /* The two magic numbers of reboot(2), and "power off". */
  call(SYS_REBOOT, 0xfee1deadL, 672274793L, 0x4321fedcL, 0);
  for (;;) {
  }
}
