#include "firmware/named_kinds.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/contains.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

using enum NamedSort;
using namespace std::string_view_literals;

constexpr std::string_view kUnpack = "Unpack it, and give the folder.";

/// A magic at a fixed place; `also` is a second one that has to be there, too.
struct Mark {
  std::size_t at = 0;
  std::string_view bytes;
  NamedKind kind;
  std::size_t also_at = 0;
  std::string_view also{};
};

constexpr Mark kMarks[] = {
    {0, "RKFW"sv, {"tablet-update", Container, "a tablet chipset's update container"}},
    {0, "RKAF"sv, {"tablet-update", Container, "a tablet chipset's update container"}},
    {0, "IMAGEWTY"sv, {"tablet-image", Container, "a tablet chipset's image container"}},
    {8, "\x56\x19\xB5\x27"sv, {"burning-image", Container, "a set-top chipset's burning image"}},
    {0,
     "\x28\x05\0\0"sv,
     {"chunked", Container, "a maker's container of compressed chunks"},
     7,
     "\x25"sv},
    {0, "\x74\x18\x96\x32"sv, {"chunked", Container, "a chunk of a maker's container"}},
    {0,
     "\x4F\x50\x50\x4F\x45\x4E\x43\x52\x59\x50\x54\x21"sv,
     {"encrypted-zip", Encrypted, "an encrypted zip"}},
    {0, "\x48\x74\x63\x40\x65\x67\x69\x24"sv, {"encrypted-zip", Encrypted, "an encrypted zip"}},
    {0, "-SIGNED-BY-SIGNBLOB-"sv, {"signed-blob", Container, "a signed blob of several images"}},
    {0, "\xFF\xD8\xFF"sv, {"jpeg", NotFirmware, "a picture (JPEG)"}},
    {0, "\x89PNG\r\n"sv, {"png", NotFirmware, "a picture (PNG)"}},
    {0, "GIF8"sv, {"gif", NotFirmware, "a picture (GIF)"}},
    {0, "RIFF"sv, {"webp", NotFirmware, "a picture (WebP)"}, 8, "WEBP"sv},
    {0, "%PDF"sv, {"pdf", NotFirmware, "a document (PDF)"}},
    {0, "\xD0\xCF\x11\xE0"sv, {"office", NotFirmware, "an office document"}},
    {0, "{\\rtf"sv, {"rtf", NotFirmware, "a document (RTF)"}},
    {0,
     "MZ"sv,
     {"program", NotFirmware, "a program for a PC",
      "If it unpacks firmware, run it and "
      "give the folder that it makes."}},
    {0, "7z\xBC\xAF\x27\x1C"sv, {"7z", Container, "a 7z archive", kUnpack}},
    {0, "Rar!\x1A\x07"sv, {"rar", Container, "a RAR archive", kUnpack}},
    {0, "MSCF"sv, {"cab", Container, "a cabinet archive", kUnpack}},
};

constexpr NamedKind kSigned{"signed-image", Container, "a maker's container of signed images"};
constexpr NamedKind kListed{"encrypted-list", Encrypted,
                            "an encrypted container with its listing in the last page"};
constexpr NamedKind kPage{"html", NotFirmware, "a web page",
                          "The download needs a sign-in, or its address has changed: fetch it in a "
                          "browser."};
constexpr NamedKind kApp{"app", NotFirmware, "an app (APK)",
                         "An add-on that comes as an app is named by a recipe, not given as "
                         "firmware."};
constexpr NamedKind kOffice{"office", NotFirmware, "an office document"};
constexpr NamedKind kText{"text", NotFirmware, "a text"};

bool has(View start, std::size_t at, std::string_view bytes) {
  return start.size() >= at + bytes.size() && as_text(start.subspan(at, bytes.size())) == bytes;
}

/// A version of 1 to 4, then `SIN`.
bool is_signed_image(View start) {
  if (start.empty()) return false;
  const auto version = std::to_integer<unsigned>(start[0]);
  return version >= 1 && version <= 4 && has(start, 1, "SIN");
}

std::string small_start(View start) {
  std::string_view text = as_text(start.first(std::min<std::size_t>(start.size(), 1024)));
  if (text.starts_with("\xEF\xBB\xBF")) text.remove_prefix(3);
  text.remove_prefix(std::min(text.find_first_not_of(" \t\r\n"), text.size()));
  return lower_case(text.substr(0, 64));
}

bool is_page(View start) {
  const std::string text = small_start(start);
  return text.starts_with("<!doctype") || text.starts_with("<html") || text.starts_with("<head");
}

/// Printable to the end of what is seen, and long enough not to be a chance.
bool is_text(View start) {
  constexpr std::size_t kLeast = 16;
  return start.size() >= kLeast && std::ranges::all_of(as_text(start), [](char one) {
           const auto byte = static_cast<unsigned char>(one);
           return byte >= 0x20 || one == '\n' || one == '\r' || one == '\t';
         });
}

/// u32 0x7CEF at 16 of the last page, whose size is one of two.
Result<bool> has_listing_page(const Source& source) {
  constexpr std::uint32_t kListing = 0x7CEF;
  constexpr std::size_t kListingAt = 16;
  for (const std::uint64_t page : {std::uint64_t{512}, std::uint64_t{4096}}) {
    if (source.size() < 2 * page || source.size() % page != 0) continue;
    WEXLO_TRY(const Bytes raw, read_some(source, source.size() - page + kListingAt, 4));
    if (raw.size() == 4 && load<std::uint32_t, LE>(raw.data()) == kListing) return true;
  }
  return false;
}

}  // namespace

const NamedKind* named_by_start(View start) {
  for (const Mark& mark : kMarks)
    if (has(start, mark.at, mark.bytes) && has(start, mark.also_at, mark.also)) return &mark.kind;
  if (is_signed_image(start)) return &kSigned;
  if (is_page(start)) return &kPage;
  return nullptr;
}

Result<const NamedKind*> named_kind(const Source& source, View start) {
  if (const NamedKind* kind = named_by_start(start)) return kind;
  WEXLO_TRY(const bool listed, has_listing_page(source));
  if (listed) return &kListed;
  return is_text(start) ? &kText : nullptr;
}

const NamedKind* named_bundle(const Bundle& bundle) {
  const auto holds = [&](std::string_view path) {
    return contains(bundle.items, path, &Item::path);
  };
  if (holds("AndroidManifest.xml") && (holds("classes.dex") || holds("resources.arsc")))
    return &kApp;
  return holds("[Content_Types].xml") ? &kOffice : nullptr;
}

Error named_error(const NamedKind& kind, const std::string& file) {
  if (kind.sort == NotFirmware)
    return {.code = ErrorCode::BadMagic,
            .message = fmt::format("this is {}, not firmware", kind.what),
            .file = file,
            .offset = 0,
            .expected = "a firmware package or an image",
            .found = std::string(kind.what),
            .hint = std::string(kind.instead.empty() ? "Look whether it is the file that you meant."
                                                     : kind.instead)};
  return {.code = ErrorCode::Unsupported,
          .message = fmt::format("this is {}, which Wexlo does not read", kind.what),
          .file = file,
          .offset = 0,
          .expected = "a firmware package that is read: docs/formats/packages.md lists them",
          .found = fmt::format("{} ({})", kind.kind,
                               kind.sort == Encrypted ? "encrypted" : "not encrypted"),
          .hint = std::string(kind.instead.empty()
                                  ? "Take the over-the-air package of the build, or the images as "
                                    "the maker's own program unpacks them."
                                  : kind.instead)};
}

}  // namespace wexlo
