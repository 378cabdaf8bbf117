/* Unpacks one xz stream into memory, as a kernel does: one block, LZMA2 alone, no check or CRC32.
 * The format is the one of "The .xz File Format" 1.1.0. Freestanding: no library, no memory but
 * what it is given. */

#pragma once

enum UnxzOutcome {
  UNXZ_OK = 0,
  UNXZ_NO_XZ = -1,    /* not the beginning of a stream */
  UNXZ_UNKNOWN = -2,  /* another check or filter than these */
  UNXZ_DAMAGED = -3,  /* a header, a code or the check does not hold */
  UNXZ_TOO_LARGE = -4 /* more than the room for it */
};

typedef unsigned char u8;
typedef unsigned short u16;
typedef unsigned int u32;
typedef __SIZE_TYPE__ uword;

static inline u32 unxz_crc32(const u8* bytes, uword size) {
  u32 crc = 0xffffffffu;
  for (uword i = 0; i < size; ++i) {
    crc ^= bytes[i];
    for (int bit = 0; bit < 8; ++bit)
      crc = (crc >> 1) ^ (0xedb88320u & (0u - (crc & 1)));
  }
  return ~crc;
}

static inline u32 unxz_le32(const u8* at) {
  return at[0] | (u32)at[1] << 8 | (u32)at[2] << 16 | (u32)at[3] << 24;
}

/* Bit models. Lengths of matches: a choice, a second one, then trees of 3, 3 and 8 bits. */
enum {
  STATES = 12,
  POSITIONS = 16,
  LENGTH_LOW = 2,
  LENGTH_MID = LENGTH_LOW + POSITIONS * 8,
  LENGTH_HIGH = LENGTH_MID + POSITIONS * 8,
  LENGTH_MODELS = LENGTH_HIGH + 256,
  LITERAL_SIZE = 0x300,
  MOST_LITERALS = LITERAL_SIZE << 4 /* lc + lp is at most 4 in LZMA2 */
};

struct Models {
  u16 is_match[STATES][POSITIONS], is_again[STATES], is_again0[STATES], is_again1[STATES],
      is_again2[STATES], is_again0_long[STATES][POSITIONS];
  u16 slot[4][64], near[115], align[16];
  u16 length[LENGTH_MODELS], again_length[LENGTH_MODELS];
  u16 literal[MOST_LITERALS];
};

struct Unxz {
  const u8 *in, *end; /* packed bytes of this chunk */
  u8* out;
  uword at, start, room; /* written so far, where the dictionary begins, and how much may be */
  u32 range, code;
  u32 state, distance[4];
  u32 lc, lp, pb;
  int broken;
  struct Models models;
};

static inline void unxz_reset(struct Unxz* x) {
  u16* one = (u16*)&x->models;
  for (uword i = 0; i < sizeof x->models / sizeof *one; ++i)
    one[i] = 1024;
  x->state = 0;
  for (int i = 0; i < 4; ++i)
    x->distance[i] = 0;
}

static inline u32 unxz_byte(struct Unxz* x) {
  if (x->in == x->end) {
    x->broken = 1;
    return 0;
  }
  return *x->in++;
}

static inline void unxz_refill(struct Unxz* x) {
  if (x->range >= 1u << 24) return;
  x->range <<= 8;
  x->code = x->code << 8 | unxz_byte(x);
}

static inline u32 unxz_bit(struct Unxz* x, u16* model) {
  unxz_refill(x);
  const u32 bound = (x->range >> 11) * *model;
  if (x->code < bound) {
    x->range = bound;
    *model = (u16)(*model + ((2048 - *model) >> 5));
    return 0;
  }
  x->range -= bound;
  x->code -= bound;
  *model = (u16)(*model - (*model >> 5));
  return 1;
}

/* A tree of bits, the highest first. */
static inline u32 unxz_tree(struct Unxz* x, u16* models, u32 bits) {
  u32 node = 1;
  for (u32 i = 0; i < bits; ++i)
    node = node << 1 | unxz_bit(x, &models[node]);
  return node - (1u << bits);
}

/* The lowest first. */
static inline u32 unxz_back(struct Unxz* x, u16* models, u32 bits) {
  u32 node = 1, value = 0;
  for (u32 i = 0; i < bits; ++i) {
    const u32 bit = unxz_bit(x, &models[node]);
    node = node << 1 | bit;
    value |= bit << i;
  }
  return value;
}

static inline u32 unxz_plain(struct Unxz* x, u32 bits) {
  u32 value = 0;
  while (bits--) {
    unxz_refill(x);
    x->range >>= 1;
    const u32 bit = x->code >= x->range;
    if (bit) x->code -= x->range;
    value = value << 1 | bit;
  }
  return value;
}

static inline u32 unxz_length(struct Unxz* x, u16* models, u32 position) {
  if (!unxz_bit(x, &models[0])) return 2 + unxz_tree(x, &models[LENGTH_LOW + position * 8], 3);
  if (!unxz_bit(x, &models[1])) return 10 + unxz_tree(x, &models[LENGTH_MID + position * 8], 3);
  return 18 + unxz_tree(x, &models[LENGTH_HIGH], 8);
}

static inline u32 unxz_distance(struct Unxz* x, u32 length) {
  const u32 slot = unxz_tree(x, x->models.slot[length < 6 ? length - 2 : 3], 6);
  if (slot < 4) return slot;
  const u32 bits = (slot >> 1) - 1;
  const u32 base = (2 | (slot & 1)) << bits;
  if (slot < 14) return base + unxz_back(x, &x->models.near[base - slot], bits);
  const u32 high = unxz_plain(x, bits - 4) << 4;
  return base + high + unxz_back(x, x->models.align, 4);
}

static inline void unxz_literal(struct Unxz* x) {
  const uword place = x->at - x->start;
  const u32 before = place == 0 ? 0 : x->out[x->at - 1];
  const u32 which = (((u32)place & ((1u << x->lp) - 1)) << x->lc) + (before >> (8 - x->lc));
  u16* models = &x->models.literal[LITERAL_SIZE * which];
  u32 node = 1;
  if (x->state >= 7) {
    if (x->distance[0] >= place) {
      x->broken = 1;
      return;
    }
    u32 match = x->out[x->at - x->distance[0] - 1];
    while (node < 0x100) {
      const u32 wanted = match >> 7 & 1;
      match <<= 1;
      const u32 bit = unxz_bit(x, &models[((1 + wanted) << 8) + node]);
      node = node << 1 | bit;
      if (bit != wanted) break;
    }
  }
  while (node < 0x100)
    node = node << 1 | unxz_bit(x, &models[node]);
  x->out[x->at++] = (u8)node;
  x->state = x->state < 4 ? 0 : x->state < 10 ? x->state - 3 : x->state - 6;
}

/* How much to copy; the distance goes to the first place. */
static inline u32 unxz_match(struct Unxz* x, u32 position) {
  struct Models* m = &x->models;
  u32* far = x->distance;
  const u32 low = x->state < 7;
  if (!unxz_bit(x, &m->is_again[x->state])) {
    far[3] = far[2];
    far[2] = far[1];
    far[1] = far[0];
    const u32 length = unxz_length(x, m->length, position);
    x->state = low ? 7 : 10;
    far[0] = unxz_distance(x, length);
    return length;
  }
  if (!unxz_bit(x, &m->is_again0[x->state])) {
    if (!unxz_bit(x, &m->is_again0_long[x->state][position])) {
      x->state = low ? 9 : 11;
      return 1;
    }
  } else {
    u32 wanted;
    if (!unxz_bit(x, &m->is_again1[x->state])) {
      wanted = far[1];
    } else {
      if (!unxz_bit(x, &m->is_again2[x->state])) {
        wanted = far[2];
      } else {
        wanted = far[3];
        far[3] = far[2];
      }
      far[2] = far[1];
    }
    far[1] = far[0];
    far[0] = wanted;
  }
  const u32 length = unxz_length(x, m->again_length, position);
  x->state = low ? 8 : 11;
  return length;
}

/* One packed chunk. */
static inline void unxz_chunk(struct Unxz* x, uword size) {
  const uword last = x->at + size;
  x->range = 0xffffffffu;
  x->code = 0;
  for (int i = 0; i < 5; ++i)
    x->code = x->code << 8 | unxz_byte(x);
  while (x->at < last && !x->broken) {
    const u32 position = (u32)(x->at - x->start) & ((1u << x->pb) - 1);
    if (!unxz_bit(x, &x->models.is_match[x->state][position])) {
      unxz_literal(x);
      continue;
    }
    u32 length = unxz_match(x, position);
    if (x->distance[0] >= x->at - x->start || length > last - x->at) x->broken = 1;
    for (; length != 0 && !x->broken; --length, ++x->at)
      x->out[x->at] = x->out[x->at - x->distance[0] - 1];
  }
  unxz_refill(x);
  if (x->in != x->end || x->code != 0) x->broken = 1;
}

static inline int unxz_set_models(struct Unxz* x, u32 properties) {
  if (properties >= 225) return 0;
  x->lc = properties % 9;
  x->lp = properties / 9 % 5;
  x->pb = properties / 45;
  return x->lc + x->lp <= 4;
}

/* The chunks of a block. Returns where the packed bytes end; 0: they do not hold, or there is no
 * room: `*outcome` says which. */
static inline const u8* unxz_chunks(struct Unxz* x, const u8* at, const u8* end,
                                    enum UnxzOutcome* outcome) {
  *outcome = UNXZ_DAMAGED;
  int has_models = 0, has_dictionary = 0;
  while (at < end) {
    const u32 control = *at++;
    if (control == 0) return at;
    const int packed = control >= 0x80;
    const uword head = packed ? (control >= 0xc0 ? 5 : 4) : 2;
    if ((uword)(end - at) < head || (!packed && control > 2)) return 0;
    const uword size = (packed ? (control & 0x1f) << 16 : 0) + ((u32)at[0] << 8) + at[1] + 1;
    if (control == 1 || control >= 0xe0) {
      x->start = x->at;
      has_dictionary = 1;
    } else if (!has_dictionary) {
      return 0;
    }
    const uword taken = packed ? ((uword)at[2] << 8) + at[3] + 1 : size;
    if (control >= 0xc0) {
      if (!unxz_set_models(x, at[4])) return 0;
      has_models = 1;
    }
    if (packed && !has_models) return 0;
    if (control >= 0xa0) unxz_reset(x);
    at += head;
    if ((uword)(end - at) < taken) return 0;
    if (size > x->room - x->at) {
      *outcome = UNXZ_TOO_LARGE;
      return 0;
    }
    if (packed) {
      x->in = at;
      x->end = at + taken;
      unxz_chunk(x, size);
      if (x->broken) return 0;
    } else {
      for (uword i = 0; i < size; ++i)
        x->out[x->at++] = at[i];
    }
    at += taken;
  }
  return 0;
}

/* @param work  room for the models
 * Returns the size of what came out, or an outcome below 0. */
static inline long unxz(const u8* in, uword size, u8* out, uword room, struct Unxz* work) {
  static const u8 kMagic[6] = {0xfd, '7', 'z', 'X', 'Z', 0};
  if (size < 24) return UNXZ_NO_XZ;
  for (int i = 0; i < 6; ++i)
    if (in[i] != kMagic[i]) return UNXZ_NO_XZ;
  if (unxz_crc32(in + 6, 2) != unxz_le32(in + 8)) return UNXZ_DAMAGED;
  if (in[6] != 0 || (in[7] != 0 && in[7] != 1)) return UNXZ_UNKNOWN;
  const u8 *block = in + 12, *end = in + size;
  /* No block at all: an index of none. */
  if (unxz_le32(block) == 0) return unxz_crc32(block, 4) == unxz_le32(block + 4) ? 0 : UNXZ_DAMAGED;
  const uword head = ((uword)block[0] + 1) * 4;
  if (block[0] == 0 || (uword)(end - block) < head + 4) return UNXZ_DAMAGED;
  if (unxz_crc32(block, head - 4) != unxz_le32(block + head - 4)) return UNXZ_DAMAGED;
  /* Sizes may stand in it; of filters one. */
  if ((block[1] & 0x3f) != 0) return UNXZ_UNKNOWN;
  const u8* at = block + 2;
  for (u32 sizes = (block[1] >> 6 & 1) + (block[1] >> 7); sizes != 0; --sizes)
    while (at < block + head && (*at++ & 0x80) != 0) {
    }
  if (at + 3 > block + head || at[0] != 0x21 || at[1] != 1) return UNXZ_UNKNOWN;
  work->out = out;
  work->at = work->start = 0;
  work->room = room;
  work->broken = 0;
  enum UnxzOutcome outcome;
  at = unxz_chunks(work, block + head, end, &outcome);
  if (at == 0) return outcome;
  while ((at - block) % 4 != 0)
    if (at == end || *at++ != 0) return UNXZ_DAMAGED;
  if (in[7] == 1) {
    if (end - at < 4 || unxz_crc32(out, work->at) != unxz_le32(at)) return UNXZ_DAMAGED;
    at += 4;
  }
  /* Behind it comes the index, which begins with 0, and not a second block. */
  if (at == end || *at != 0) return UNXZ_UNKNOWN;
  return (long)work->at;
}
