/* The demo's add-on: takes init's place, says so on the console, and hands over to the stock init
 * that the recipe kept. Freestanding, so that it needs nothing that a first ramdisk does not have.
 */

#if defined(__aarch64__)
enum { SYS_WRITE = 64, SYS_OPENAT = 56, SYS_CLOSE = 57, SYS_EXECVE = 221, SYS_EXIT = 93 };
static long call(long number, long a, long b, long c, long d) {
  register long x8 __asm__("x8") = number;
  register long x0 __asm__("x0") = a;
  register long x1 __asm__("x1") = b;
  register long x2 __asm__("x2") = c;
  register long x3 __asm__("x3") = d;
  __asm__ volatile("svc 0" : "+r"(x0) : "r"(x8), "r"(x1), "r"(x2), "r"(x3) : "memory");
  return x0;
}
__asm__(".globl _start\n_start:\n mov x0, sp\n b begin\n");
#elif defined(__x86_64__)
enum { SYS_WRITE = 1, SYS_OPENAT = 257, SYS_CLOSE = 3, SYS_EXECVE = 59, SYS_EXIT = 60 };
static long call(long number, long a, long b, long c, long d) {
  long result;
  register long r10 __asm__("r10") = d;
  __asm__ volatile("syscall"
                   : "=a"(result)
                   : "a"(number), "D"(a), "S"(b), "d"(c), "r"(r10)
                   : "rcx", "r11", "memory");
  return result;
}
__asm__(".globl _start\n_start:\n mov %rsp, %rdi\n jmp begin\n");
#else
#error "the demo's add-on knows arm64 and x86-64"
#endif

enum { FROM_ROOT = -100, WRITE_ONLY = 1, NOT_THE_TERMINAL = 0400 };

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
