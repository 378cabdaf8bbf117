/* The first program of the demo's root package: takes init's place, unpacks what the package
 * brought, says what stands in its settings, starts its keeper, and hands over to the stock init,
 * which the recipe kept packed. Freestanding, so that it needs nothing that a first ramdisk does
 * not have. */

#include "addon/linux_call.h"
#include "tide/unxz.h"

enum { ROOM_PACKED = 6 << 20, ROOM_PLAIN = 24 << 20, PROGRAM = 0755 };

static u8 packed[ROOM_PACKED], plain[ROOM_PLAIN];
static struct Unxz work;
static long console = CONSOLE;

/* The compiler calls these by name. */
void* memset(void* to, int value, uword size) {
  volatile u8* at = to;
  while (size--)
    *at++ = (u8)value;
  return to;
}
void* memcpy(void* to, const void* from, uword size) {
  volatile u8* at = to;
  const u8* source = from;
  while (size--)
    *at++ = *source++;
  return to;
}

static long length(const char* text) {
  long size = 0;
  while (text[size])
    ++size;
  return size;
}

/* A line on the console, out of pieces. The kernel's log takes a line for each call, and of one
 * program no more than ten in five seconds: there are few, and what belongs together is one. */
static char line[800];
static long line_size;

static void add(const char* text, long size) {
  const long room = (long)sizeof line - 1 - line_size;
  if (size > room) size = room;
  for (long i = 0; i < size; ++i)
    line[line_size++] = text[i];
}
static void say_line(void) {
  line[line_size++] = '\n';
  call(SYS_WRITE, console, (long)line, line_size, 0);
  line_size = 0;
}
static void tell(const char* a, const char* b, const char* c) {
  const char* pieces[] = {"tide: ", a, b, c};
  for (int i = 0; i < 4; ++i)
    add(pieces[i], length(pieces[i]));
  say_line();
}

static const char* number(long value) {
  static char digits[24];
  char* at = digits + sizeof digits - 1;
  const int below = value < 0;
  unsigned long left = below ? 0ul - (unsigned long)value : (unsigned long)value;
  do {
    *--at = (char)('0' + left % 10);
  } while ((left /= 10) != 0);
  if (below) *--at = '-';
  return at;
}

/* Returns its size; below 0: it does not read. */
static long read_file(const char* path, u8* into, long room) {
  const long file = call(SYS_OPENAT, FROM_ROOT, (long)path, READ_ONLY, 0);
  if (file < 0) return file;
  long size = 0, got;
  while (size < room && (got = call(SYS_READ, file, (long)(into + size), room - size, 0)) > 0)
    size += got;
  call(SYS_CLOSE, file, 0, 0, 0);
  return size;
}

static int write_program(const char* path, const u8* bytes, long size) {
  call(SYS_UNLINKAT, FROM_ROOT, (long)path, 0, 0);
  const long file = call(SYS_OPENAT, FROM_ROOT, (long)path, WRITE_ONLY | MAKE_NEW, PROGRAM);
  if (file < 0) return 0;
  long done = 0, put;
  while (done < size && (put = call(SYS_WRITE, file, (long)(bytes + done), size - done, 0)) > 0)
    done += put;
  call(SYS_CLOSE, file, 0, 0, 0);
  return done == size;
}

/* What the package's file unpacks to goes to a place as a program. */
static int unpack(const char* from, const char* to) {
  const long size = read_file(from, packed, sizeof packed);
  if (size < 0) {
    tell("not there: ", from, "");
    return 0;
  }
  const long made = unxz(packed, (uword)size, plain, sizeof plain, &work);
  if (made < 0) {
    tell(from, " does not unpack: ", number(made));
    return 0;
  }
  if (!write_program(to, plain, made)) {
    tell("no place for ", to, "");
    return 0;
  }
  tell("unpacked ", to, "");
  return 1;
}

static void tell_settings(void) {
  const long size = read_file("/tide/settings", packed, sizeof packed);
  if (size < 0) {
    tell("no settings", "", "");
    return;
  }
  const char* between = "tide: settings: ";
  long from = 0;
  for (long at = 0; at < size; ++at) {
    if (packed[at] != '\n') continue;
    if (at > from && packed[from] != '#') {
      add(between, length(between));
      add((char*)packed + from, at - from);
      between = "; ";
    }
    from = at + 1;
  }
  say_line();
}

static void tell_module(void) {
  const long size = read_file("/tide/tide.ko", packed, sizeof packed);
  if (size < 0)
    tell("no module for this kernel", "", "");
  else
    tell("module of ", number(size), " bytes");
}

/* Runs a program to its end. */
static void run(const char* path, char** environment) {
  const long child = call5(SYS_CLONE, CHILD_ENDED, 0, 0, 0, 0);
  if (child == 0) {
    char* const words[] = {(char*)path, 0};
    call(SYS_EXECVE, (long)path, (long)words, (long)environment, 0);
    tell("does not start: ", path, "");
    call(SYS_EXIT, 1, 0, 0, 0);
  }
  if (child > 0) call(SYS_WAIT4, child, 0, 0, 0);
}

/* The start of the stack: argument count, arguments, 0, environment, 0. */
__attribute__((used)) void begin(long* stack) {
  char** arguments = (char**)(stack + 1);
  char** environment = arguments + stack[0] + 1;
  /* The kernel's log reaches the console, and needs no device node but its own. */
  const long log = call(SYS_OPENAT, FROM_ROOT, (long)"/dev/kmsg", WRITE_ONLY | NOT_THE_TERMINAL, 0);
  if (log >= 0) console = log;
  tell("started before the stock init", "", "");
  tell_settings();
  tell_module();
  if (unpack("/tide/keeper.xz", "/tide/keeper")) run("/tide/keeper", environment);
  if (unpack("/tide/stock-init.xz", "/init")) {
    tell("handing over to the stock init", "", "");
    call(SYS_EXECVE, (long)"/init", (long)arguments, (long)environment, 0);
  }
  tell("the stock init does not start", "", "");
  call(SYS_EXIT, 1, 0, 0, 0);
}
