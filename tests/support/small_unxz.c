/* tide's own decoder, for tests on this machine. */

#include "demo/tide/unxz.h"

long wexlo_small_unxz(const u8* in, uword size, u8* out, uword room);
long wexlo_small_unxz(const u8* in, uword size, u8* out, uword room) {
  static struct Unxz work;
  return unxz(in, size, out, room, &work);
}
