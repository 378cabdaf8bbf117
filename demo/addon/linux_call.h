/* A program without a library: how it begins, and how it asks the kernel for something. The program
 * has a function `begin`, given the start of the stack. */

#pragma once

#if defined(__aarch64__)
enum {
  SYS_FACCESSAT = 48,
  SYS_REBOOT = 142,
  SYS_WRITE = 64,
  SYS_OPENAT = 56,
  SYS_CLOSE = 57,
  SYS_EXECVE = 221,
  SYS_EXIT = 93
};
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
enum {
  SYS_FACCESSAT = 269,
  SYS_REBOOT = 169,
  SYS_WRITE = 1,
  SYS_OPENAT = 257,
  SYS_CLOSE = 3,
  SYS_EXECVE = 59,
  SYS_EXIT = 60
};
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
#error "these programs know arm64 and x86-64"
#endif
