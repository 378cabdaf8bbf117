#include "codec/settings.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>

#include "codec/formats.hpp"

namespace wexlo {
namespace {

/// The two knobs of a library's setting, and what the second one is called.
struct Knobs {
  int level, variant;
};

/// Settings in the order of how often makers use them. xz and lzma: the presets 7 to 9 search as 6
/// does, their dictionary is in the stream; likewise 5 extreme as 3 extreme.
std::vector<Knobs> candidates(Compression kind, const Framing& framing) {
  std::vector<Knobs> out;
  switch (kind) {
    case Compression::Gzip:
      for (const int memory : {8, 9})
        for (const int level : {9, 6, 8, 7, 5, 4, 3, 2, 1})
          out.push_back({level, memory});
      break;
    case Compression::Lz4Legacy:
    case Compression::Lz4Frame:
      for (const int level : {12, 9, 1, 11, 10, 8, 7, 6, 5, 4, 3})
        out.push_back({level, -1});
      break;
    case Compression::Xz:
    case Compression::Lzma:
      for (const int level : {6, 5, 4, 3, 2, 1, 0})
        out.push_back({level, -1});
      out.insert(out.begin() + 1, {{6, 1}, {3, 1}});
      break;
    case Compression::Zstd: {
      const bool unsized =
          framing.header.size() > 4 && (std::to_integer<unsigned>(framing.header[4]) & 0xe0) == 0;
      for (const int level :
           {19, 3, 22, 9, 1, 12, 15, 18, 17, 16, 14, 13, 11, 10, 8, 7, 6, 5, 4, 2, 20, 21})
        // The usual program hands the work to a thread of its own, which cuts it into jobs.
        for (const int worker : {2, 0})
          out.push_back({level, worker + (unsized ? 1 : 0)});
      break;
    }
    default: break;
  }
  return out;
}

constexpr std::size_t kMostInput = 1u << 20;  ///< of the content, that one setting is tried on
constexpr std::size_t kEnoughOutput = 24u << 10;

/// Where the stream's data begins: an xz header may be written with sizes or without, and says
/// nothing of the setting.
std::size_t data_at(Compression kind, View stream) {
  if (kind != Compression::Xz || stream.size() <= 12) return 0;
  return std::min(stream.size(), 12 + (std::to_integer<std::size_t>(stream[12]) + 1) * 4);
}

/// Runs the encoder over the content's start and compares what comes out by then.
Proof try_stream(Compression kind, View content, View encoded, const Framing& framing) {
  Framing plain = framing;
  // An encoder of several threads gives nothing before a block is full: the single one's start is
  // the same but for the header.
  if (kind == Compression::Xz) plain.header = codec::xz_header_without_sizes(framing.header);
  const bool whole = content.size() <= kMostInput;
  if (whole) {
    const auto out = encode(kind, content, framing);
    return out && equal(*out, encoded) ? Proof::Whole : Proof::None;
  }
  if (kind == Compression::Zstd) plain.variant &= 1;  // likewise
  auto encoder = make_encoder(kind, plain, content.size());
  if (!encoder) return Proof::None;
  const View stock = encoded.subspan(data_at(kind, encoded));
  Bytes out(2 * kMostInput);
  std::size_t used = 0, taken = 0;
  constexpr std::size_t kStep = 128u << 10;
  while (taken < kMostInput && used < kEnoughOutput) {
    const auto step = (*encoder)->step(content.subspan(taken, std::min(kStep, kMostInput - taken)),
                                       MutableView(out).subspan(used), false);
    if (!step) return Proof::None;
    if (step->consumed == 0 && step->produced == 0) break;
    taken += step->consumed;
    used += step->produced;
    const View got = View(out).first(used).subspan(data_at(kind, View(out).first(used)));
    if (got.size() > stock.size() || !equal(got, stock.first(got.size()))) return Proof::None;
  }
  return used > 1024 ? Proof::Start : Proof::None;
}

/// How much content is encoded whole for the sake of proof.
std::size_t whole_bound(Compression kind, Effort effort) {
  if (effort == Effort::Thorough) return 16u << 20;
  const bool fast = kind != Compression::Xz && kind != Compression::Lzma;
  return fast ? 4u << 20 : 1u << 20;
}

/// @param whole_follows  what fits is encoded whole next
Proof try_setting(Compression kind, View content, View encoded, const Framing& framing,
                  bool whole_follows) {
  if (kind != Compression::Lz4Legacy && kind != Compression::Lz4Frame)
    return try_stream(kind, content, encoded, framing);
  return codec::lz4_gives(kind, content, encoded, framing.level, !whole_follows) ? Proof::Start
                                                                                 : Proof::None;
}

}  // namespace

std::string_view proof_name(Proof proof) {
  static constexpr std::array<std::string_view, 3> names{"none", "start", "whole"};
  return names[static_cast<std::size_t>(proof)];
}

namespace {

/// Tries settings [first, first + proofs.size()) beside each other.
void try_wave(Compression kind, View content, View encoded, const Framing& framing,
              std::span<const Knobs> knobs, std::span<Proof> proofs, bool whole_follows,
              const Context& context) {
  Context own = context;
  own.memory_bound = 512u << 20;
  own.progress = {};
  TaskGroup tasks(own);
  // What an encoder's tables take, at most: two of the largest are tried at a time.
  constexpr std::uint64_t kTables = 200u << 20;
  for (std::size_t i = 0; i < knobs.size(); ++i)
    tasks.submit(kTables, [&, i]() -> Status {
      Framing tried = framing;
      tried.level = knobs[i].level;
      tried.variant = knobs[i].variant;
      proofs[i] = try_setting(kind, content, encoded, tried, whole_follows);
      return {};
    });
  (void)tasks.wait();  // a search that was stopped found nothing
}

bool gives_all(Compression kind, View content, View encoded, const Framing& framing,
               const Context& context) {
  const auto out = encode(kind, content, framing, context);
  return out && equal(*out, encoded);
}

}  // namespace

Setting find_setting(Compression kind, View content, View encoded, const Framing& framing,
                     const Context& context, Effort effort) {
  if (kind == Compression::None) return {framing, Proof::Whole};
  std::vector<Knobs> knobs = candidates(kind, framing);
  const bool settled = kind == Compression::Bzip2;  // its header has the one knob there is
  if (settled) knobs = {{framing.level, -1}};
  Setting best{framing, Proof::None};
  // Waves of fixed sizes, two and then four each: the likeliest settings come first and mostly end
  // the search, and what is found does not depend on the number of jobs.
  std::size_t most = 2;
  for (std::size_t first = 0, size = 0; first < knobs.size(); first += size, most = 4) {
    size = std::min(most, knobs.size() - first);
    const std::span<const Knobs> wave(knobs.begin() + static_cast<std::ptrdiff_t>(first), size);
    std::vector<Proof> proofs(wave.size(), settled ? Proof::Start : Proof::None);
    const bool whole_follows = content.size() <= whole_bound(kind, effort);
    if (!settled) try_wave(kind, content, encoded, framing, wave, proofs, whole_follows, context);
    for (std::size_t i = 0; i < wave.size(); ++i) {
      if (proofs[i] == Proof::None) continue;
      Setting found{framing, proofs[i]};
      found.framing.level = wave[i].level;
      found.framing.variant = wave[i].variant;
      if (found.proof == Proof::Whole) return found;
      if (whole_follows) {
        if (!gives_all(kind, content, encoded, found.framing, context)) continue;
        found.proof = Proof::Whole;
        return found;
      }
      if (best.proof == Proof::None) best = found;
    }
    if (best.proof != Proof::None) return best;
  }
  return best;
}

std::string setting_text(Compression kind, const Framing& framing) {
  if (kind == Compression::None) return "none";
  if (framing.level < 0) return "densest";
  const bool lzma = kind == Compression::Xz || kind == Compression::Lzma;
  std::string out = fmt::format("{} {}", lzma ? "preset" : "level", framing.level);
  if (framing.variant < 0) return out;
  if (kind == Compression::Gzip) out += fmt::format(", memory {}", framing.variant);
  if (lzma && framing.variant > 0) out += ", extreme 1";
  if (kind == Compression::Zstd && (framing.variant & 1) != 0) out += ", unsized 1";
  if (kind == Compression::Zstd && (framing.variant & 2) != 0) out += ", worker 1";
  return out;
}

Status set_setting(Framing& framing, std::string_view text) {
  framing.level = framing.variant = -1;
  if (text == "densest" || text == "none") return {};
  const auto wrong = [&] {
    return fail({.code = ErrorCode::BadValue,
                 .message = "not a setting of an encoder",
                 .expected = "`densest`, or words as in `level 9, memory 8` and `preset 6`",
                 .found = std::string(text)});
  };
  std::string_view rest = text;
  const auto number = [&](std::string_view word, int most) -> std::optional<int> {
    if (!rest.starts_with(word)) return std::nullopt;
    rest.remove_prefix(word.size());
    int value = -1;
    const auto [end, bad] = std::from_chars(rest.data(), rest.data() + rest.size(), value);
    if (bad != std::errc() || value < 0 || value > most) return std::nullopt;
    rest.remove_prefix(static_cast<std::size_t>(end - rest.data()));
    return value;
  };
  const auto level = number(text.starts_with("preset") ? "preset " : "level ", 22);
  if (!level) return wrong();
  framing.level = *level;
  if (rest.empty()) return {};
  framing.variant = 0;
  struct Word {
    std::string_view text;
    int weight;  ///< zstd's two words share the knob, a bit each
  };
  for (const Word word :
       {Word{", memory ", 1}, {", extreme ", 1}, {", unsized ", 1}, {", worker ", 2}})
    if (const auto value = number(word.text, 9)) framing.variant += *value * word.weight;
  return rest.empty() ? Status{} : wrong();
}

Framing xz_framing_for(std::uint64_t size) {
  constexpr std::uint64_t kKiB = 1024;
  constexpr std::uint64_t kDictionaries[] = {256 * kKiB,  1024 * kKiB,  2048 * kKiB,
                                             4096 * kKiB, 4096 * kKiB,  8192 * kKiB,
                                             8192 * kKiB, 16384 * kKiB, 32768 * kKiB};
  const auto* at = std::ranges::lower_bound(kDictionaries, size);
  return {.level = static_cast<int>(at - std::begin(kDictionaries)), .variant = 1};
}

}  // namespace wexlo
