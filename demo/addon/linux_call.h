/* A program without a library: how it begins, and how it asks the kernel for something. The program
 * has a function `begin`, given the start of the stack. */

#pragma once

/* What is the same for all processors. */
enum {
  FROM_ROOT = -100,
  READ_ONLY = 0,
  WRITE_ONLY = 1,
  MAKE_NEW = 0100 | 01000, /* create, and cut off what was there */
  NOT_THE_TERMINAL = 0400,
  CONSOLE = 1,
  CHILD_ENDED = 17 /* SIGCHLD */
};

#if defined(__i386__) || defined(__arm__)
enum {
  SYS_EXIT = 1,
  SYS_READ = 3,
  SYS_WRITE = 4,
  SYS_CLOSE = 6,
  SYS_EXECVE = 11,
  SYS_REBOOT = 88,
  SYS_WAIT4 = 114,
  SYS_CLONE = 120
};
#endif

#if defined(__aarch64__)
#define IN_NUMBER "x8"
#define IN_A "x0"
#define IN_B "x1"
#define IN_C "x2"
#define IN_D "x3"
#define IN_E "x4"
enum {
  SYS_MKDIRAT = 34,
  SYS_UNLINKAT = 35,
  SYS_FACCESSAT = 48,
  SYS_OPENAT = 56,
  SYS_CLOSE = 57,
  SYS_READ = 63,
  SYS_WRITE = 64,
  SYS_EXIT = 93,
  SYS_REBOOT = 142,
  SYS_CLONE = 220,
  SYS_EXECVE = 221,
  SYS_WAIT4 = 260
};
__asm__(".globl _start\n_start:\n mov x0, sp\n b begin\n");
#elif defined(__x86_64__)
enum {
  SYS_READ = 0,
  SYS_WRITE = 1,
  SYS_CLOSE = 3,
  SYS_CLONE = 56,
  SYS_EXECVE = 59,
  SYS_EXIT = 60,
  SYS_WAIT4 = 61,
  SYS_REBOOT = 169,
  SYS_OPENAT = 257,
  SYS_MKDIRAT = 258,
  SYS_UNLINKAT = 263,
  SYS_FACCESSAT = 269
};
static long call5(long number, long a, long b, long c, long d, long e) {
  long result;
  register long r10 __asm__("r10") = d;
  register long r8 __asm__("r8") = e;
  __asm__ volatile("syscall"
                   : "=a"(result)
                   : "a"(number), "D"(a), "S"(b), "d"(c), "r"(r10), "r"(r8)
                   : "rcx", "r11", "memory");
  return result;
}
__asm__(".globl _start\n_start:\n mov %rsp, %rdi\n jmp begin\n");
#elif defined(__i386__)
enum { SYS_OPENAT = 295, SYS_MKDIRAT = 296, SYS_UNLINKAT = 301, SYS_FACCESSAT = 307 };
static long call5(long number, long a, long b, long c, long d, long e) {
  long result;
  __asm__ volatile("int $0x80"
                   : "=a"(result)
                   : "a"(number), "b"(a), "c"(b), "d"(c), "S"(d), "D"(e)
                   : "memory");
  return result;
}
__asm__(
    ".globl _start\n_start:\n mov %esp, %eax\n and $-16, %esp\n sub $12, %esp\n push %eax\n"
    " call begin\n");
#elif defined(__arm__)
#define IN_NUMBER "r7"
#define IN_A "r0"
#define IN_B "r1"
#define IN_C "r2"
#define IN_D "r3"
#define IN_E "r4"
enum { SYS_OPENAT = 322, SYS_MKDIRAT = 323, SYS_UNLINKAT = 328, SYS_FACCESSAT = 334 };
__asm__(".globl _start\n_start:\n mov r0, sp\n bic sp, sp, #7\n b begin\n");
#else
#error "these programs know arm64, arm, x86-64 and x86"
#endif

#if defined(IN_NUMBER)
static long call5(long number, long a, long b, long c, long d, long e) {
  register long in_number __asm__(IN_NUMBER) = number;
  register long in_a __asm__(IN_A) = a;
  register long in_b __asm__(IN_B) = b;
  register long in_c __asm__(IN_C) = c;
  register long in_d __asm__(IN_D) = d;
  register long in_e __asm__(IN_E) = e;
  __asm__ volatile("svc 0"
                   : "+r"(in_a)
                   : "r"(in_number), "r"(in_b), "r"(in_c), "r"(in_d), "r"(in_e)
                   : "memory");
  return in_a;
}
#endif

static inline long call(long number, long a, long b, long c, long d) {
  return call5(number, a, b, c, d, 0);
}
