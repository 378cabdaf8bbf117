/// The running kernel inside its section: taken out, and put back packed as it was.

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "base/crc.hpp"
#include "codec/settings.hpp"
#include "image/kernel.hpp"
#include "image/part_header.hpp"

namespace wexlo::kernel {
namespace {

constexpr std::size_t kUImageCrcAt = 4, kUImageSizeAt = 12, kUImageDataCrcAt = 24;

std::uint32_t header_crc(View header) {
  Bytes copy = to_bytes(header);
  store<std::uint32_t, BE>(copy.data() + kUImageCrcAt, 0);
  return crc32_of(copy);
}

}  // namespace

void renew_wrapping(Bytes& section, View stock) {
  const std::size_t wrapping = wrapping_size(stock);
  if (wrapping == part_header::kSize && part_header::looks_like(stock)) {
    const Bytes header = part_header::renewed(stock.first(wrapping), stock.size() - wrapping,
                                              section.size() - wrapping);
    std::ranges::copy(header, section.begin());
    return;
  }
  if (const auto size = marked_size(stock)) {
    constexpr std::size_t kSizeAt = 16;
    if (*size == load<std::uint32_t, LE>(stock.data() + kSizeAt))
      store<std::uint32_t, LE>(section.data() + kSizeAt,
                               static_cast<std::uint32_t>(*size + section.size() - stock.size()));
    return;
  }
  if (wrapping != kUImageHeader) return;
  const std::uint64_t said = load<std::uint32_t, BE>(stock.data() + kUImageSizeAt);
  const std::uint64_t now = said + section.size() - stock.size();
  if (said > stock.size() - wrapping || now > section.size() - wrapping) return;
  const bool data_true =
      crc32_of(stock.subspan(wrapping, said)) == load<std::uint32_t, BE>(&stock[kUImageDataCrcAt]);
  const bool header_true =
      header_crc(stock.first(wrapping)) == load<std::uint32_t, BE>(&stock[kUImageCrcAt]);
  store<std::uint32_t, BE>(section.data() + kUImageSizeAt, static_cast<std::uint32_t>(now));
  if (data_true)
    store<std::uint32_t, BE>(section.data() + kUImageDataCrcAt,
                             crc32_of(View(section).subspan(wrapping, now)));
  if (header_true)
    store<std::uint32_t, BE>(section.data() + kUImageCrcAt,
                             header_crc(View(section).first(wrapping)));
}

namespace {

/// A payload in the same room: what is left over is zeros, and the last four bytes say how much it
/// unpacks to, which is where the unpacking code reads it.
Result<Bytes> in_the_same_room(const Body& body, const Blob& decoded, View stock,
                               const Context& context) {
  // How much it unpacks to stands in its own code, too.
  if (decoded.size() != body.decoded.size())
    return fail({.code = ErrorCode::DoesNotFit,
                 .message = "a kernel that unpacks itself can only be changed in place: its own "
                            "code has its size",
                 .expected = fmt::format("{} bytes", body.decoded.size()),
                 .found = fmt::format("{} bytes", decoded.size()),
                 .hint = "Change bytes without adding or removing any."});
  const bool size_inside = body.compression == Compression::Gzip;
  const std::size_t room = stock.size();
  const Framing framing =
      find_setting(body.compression, body.decoded.view(), stock, body.framing, context).framing;
  std::vector<Framing> tries;
  for (const int level : {framing.level, -1, 12, 11, 10, 9, 8}) {
    tries.push_back(framing);
    tries.back().level = level;
  }
  if (body.compression == Compression::Xz || body.compression == Compression::Lzma) {
    tries.push_back(framing);
    tries.back().level = 9;
    tries.back().variant = kLiteralsByPlace;
  }
  std::size_t smallest = 0;
  for (const Framing& one : tries) {
    auto packed = encode(body.compression, decoded.view(), one, context);
    if (!packed) continue;
    smallest = smallest == 0 ? packed->size() : std::min(smallest, packed->size());
    const bool fits = packed->size() == room || (packed->size() + 4 <= room && size_inside) ||
                      (packed->size() < room && !size_inside);
    if (!fits) continue;
    packed->resize(room);
    if (size_inside)
      store<std::uint32_t, LE>(packed->data() + room - 4,
                               static_cast<std::uint32_t>(decoded.size()));
    return packed;
  }
  return fail({.code = ErrorCode::DoesNotFit,
               .message = "the changed kernel does not pack into the room that the stock one has: "
                          "it unpacks itself, and its code has the place of what follows",
               .expected = fmt::format("at most {} bytes", room),
               .found = fmt::format("{} bytes", smallest),
               .hint = "Such a kernel has to be built anew; nothing else of the image stands in "
                       "the way."});
}

}  // namespace

Result<Body> open_body(const Blob& section, const DecodeLimit& limit) {
  Body body{.begin = wrapping_size(section.view())};
  const View bytes = section.view().subspan(body.begin);
  if (const auto kind = detect_compression(bytes)) {
    auto decoded = decode(*kind, bytes, limit);
    if (!decoded) return fail(at_base(std::move(decoded).error(), body.begin));
    body.compression = *kind;
    body.end = body.begin + decoded->consumed;
    body.framing = framing_of(*kind, bytes.first(decoded->consumed), decoded->bytes.size());
    body.decoded = decoded->bytes;
    return body;
  }
  const Kernel form = read(section, limit);
  body.end = form.trees.empty() ? section.size() : form.trees_at;
  if (form.form == "EFI zboot" || form.form == "x86 bzImage")
    return fail({.code = ErrorCode::Unsupported,
                 .message = fmt::format("bytes inside a kernel in {} form cannot be replaced: it "
                                        "checks and unpacks itself",
                                        form.form)});
  if (form.form == "ARM zImage") {
    const auto payload = find_payload(bytes, limit);
    constexpr std::array kRoomy{Compression::Gzip, Compression::Xz, Compression::Lzma};
    if (!payload || std::ranges::find(kRoomy, payload->kind) == kRoomy.end())
      return fail({.code = ErrorCode::Unsupported,
                   .message = payload ? fmt::format("a self-unpacking kernel packed as {} cannot "
                                                    "be put together again",
                                                    compression_name(payload->kind))
                                      : "the self-unpacking kernel's payload was not found"});
    body.inside = true;
    body.compression = payload->kind;
    body.end = body.begin + payload->at + payload->decoded.consumed;
    body.begin += payload->at;
    body.framing =
        framing_of(payload->kind, section.view().subspan(body.begin, payload->decoded.consumed),
                   payload->decoded.bytes.size());
    body.decoded = payload->decoded.bytes;
    return body;
  }
  if (const auto size = marked_size(section.view())) body.end = body.begin + *size;
  body.decoded = section.part(body.begin, body.end - body.begin);
  return body;
}

std::vector<std::size_t> whole_words(View bytes, std::string_view word) {
  const std::string_view text = as_text(bytes);
  const auto part_of_word = [&](std::size_t at) {
    const char c = at < text.size() ? text[at] : '\0';
    return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_';
  };
  std::vector<std::size_t> out;
  for (auto at = text.find(word); at != text.npos; at = text.find(word, at + word.size()))
    if (!(at > 0 && part_of_word(at - 1)) && !part_of_word(at + word.size())) out.push_back(at);
  return out;
}

std::string other_ramdisk_word(View kernel) {
  constexpr std::string_view kEnd = "_initramfs";
  constexpr std::size_t kFirst = kSkipWord.size() - kEnd.size();
  const std::string_view text = as_text(kernel);
  for (auto at = text.find(kEnd); at != text.npos; at = text.find(kEnd, at + 1)) {
    if (at < kFirst) continue;
    const std::string_view word = text.substr(at - kFirst, kSkipWord.size());
    const bool letters = std::ranges::all_of(word.substr(0, kFirst), [](char c) {
      return (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9');
    });
    if (!letters || word == kSkipWord) continue;
    // A parameter of a kernel is a text of its own.
    const bool alone = (at == kFirst || text[at - kFirst - 1] == '\0') &&
                       (at + kEnd.size() == text.size() || text[at + kEnd.size()] == '\0');
    if (alone) return std::string(word);
  }
  return {};
}

bool may_skip_ramdisk(const Section* section, const DecodeLimit& limit) {
  if (section == nullptr || section->bytes.empty()) return false;
  const auto body = open_body(section->bytes, limit);
  if (!body) return false;
  const std::string_view text = as_text(body->decoded.view());
  return text.find(kSkipWord) != text.npos || text.find(kKeepWord) != text.npos;
}

bool is_within(const Body& body, const Blob& section) {
  return body.compression != Compression::None || body.begin != 0 || body.end != section.size();
}

Result<std::optional<Bytes>> packed_as_stock(const Blob& section, const Blob& fresh,
                                             const Context& context) {
  const DecodeLimit limit = decode_limit(context);
  const auto body = open_body(section, limit);
  if (!body || body->inside || body->compression == Compression::None) return std::nullopt;
  if (wrapping_size(fresh.view()) != 0 || detect_compression(fresh.view())) return std::nullopt;
  const Kernel form = read(fresh, limit);
  constexpr std::array<std::string_view, 3> kUnpackThemselves{"ARM zImage", "x86 bzImage",
                                                              "EFI zboot"};
  const bool plain = form.form == "arm64 Image" || !form.banner.empty();
  if (!plain || std::ranges::find(kUnpackThemselves, form.form) != kUnpackThemselves.end())
    return std::nullopt;
  const bool own_trees = !form.trees.empty();
  WEXLO_TRY(Bytes out,
            with_body(section, *body, own_trees ? fresh.part(0, form.trees_at) : fresh, context,
                      own_trees ? std::optional(form.trees.view()) : std::nullopt));
  return out;
}

Result<Bytes> with_body(const Blob& section, const Body& body, const Blob& decoded,
                        const Context& context, std::optional<View> behind) {
  const View stock = section.view().subspan(body.begin, body.end - body.begin);
  Bytes packed;
  if (body.compression == Compression::None) {
    packed = to_bytes(decoded.view());
  } else if (body.inside) {
    WEXLO_TRY(packed, in_the_same_room(body, decoded, stock, context));
  } else {
    const Framing framing =
        find_setting(body.compression, body.decoded.view(), stock, body.framing, context).framing;
    WEXLO_TRY(packed, encode(body.compression, decoded.view(), framing, context,
                             {stock, body.decoded.view()}));
  }
  Bytes out = to_bytes(section.view().first(body.begin));
  append(out, View(packed));
  append(out, behind.value_or(section.view().subspan(body.end)));
  renew_wrapping(out, section.view());
  return out;
}

}  // namespace wexlo::kernel
