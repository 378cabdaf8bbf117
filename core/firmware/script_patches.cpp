#include "firmware/script_patches.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/digest.hpp"
#include "firmware/imgdiff.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

constexpr std::uint64_t kMostPatch = 256u << 20, kMostPatched = 512u << 20;

/// Texts between quotes in a call, in their order; its parentheses may nest.
std::vector<std::string_view> quoted(std::string_view call) {
  std::vector<std::string_view> out;
  int depth = 0;
  for (std::size_t i = 0; i < call.size(); ++i) {
    if (call[i] == '(') ++depth;
    if (call[i] == ')' && --depth == 0) break;
    if (call[i] != '"') continue;
    const std::size_t end = call.find('"', i + 1);
    if (end == call.npos) break;
    out.push_back(call.substr(i + 1, end - i - 1));
    i = end;
  }
  return out;
}

std::vector<std::string_view> parts_of(std::string_view text) {
  std::vector<std::string_view> out;
  for (;;) {
    const std::size_t end = std::min(text.find(':'), text.size());
    out.push_back(text.substr(0, end));
    if (end == text.size()) return out;
    text.remove_prefix(end + 1);
  }
}

bool is_sha1(std::string_view text) {
  return text.size() == 40 && text.find_first_not_of("0123456789abcdefABCDEF") == text.npos;
}

/// `EMMC:/dev/…/boot:SIZE:SHA1:SIZE:SHA1`, old before new.
std::optional<ScriptPatch> of_one_place(const std::vector<std::string_view>& words) {
  if (words.size() < 2) return std::nullopt;
  const auto parts = parts_of(words.front());
  if (parts.size() < 6 || parts[0] != "EMMC") return std::nullopt;
  ScriptPatch out{.partition = std::string(base_name(parts[1])),
                  .file = std::string(words.back()),
                  .old_size = parse_number(parts[2]).value_or(0),
                  .new_size = parse_number(parts[4]).value_or(0),
                  .old_sha1 = lower_case(parts[3]),
                  .new_sha1 = lower_case(parts[5])};
  // The script may patch a smaller image in place, and name the new one behind it.
  return out;
}

/// Two places, the new one first.
std::optional<ScriptPatch> of_two_places(const std::vector<std::string_view>& words) {
  if (words.size() < 3) return std::nullopt;
  const auto after = parts_of(words[0]), before = parts_of(words[1]);
  if (after.size() < 4 || before.size() < 4 || after[0] != "EMMC") return std::nullopt;
  return ScriptPatch{.partition = std::string(base_name(after[1])),
                     .file = std::string(words.back()),
                     .old_size = parse_number(before[2]).value_or(0),
                     .new_size = parse_number(after[2]).value_or(0),
                     .old_sha1 = lower_case(before[3]),
                     .new_sha1 = lower_case(after[3])};
}

class ScriptPatchContent final : public Content {
 public:
  ScriptPatchContent(ScriptPatch what, SourcePtr patch, const Opening& opening)
      : what_(std::move(what)), patch_(std::move(patch)), base_(opening.base) {}

  Result<Bytes> head(std::size_t) const override { return fail(needs_base()); }
  Result<SourcePtr> source(const Context& context) const override {
    WEXLO_TRY(Bytes bytes, made(context));
    return open_memory(Blob(std::move(bytes)), patch_->name());
  }
  Result<Verified> read(ImageSink& sink, const ReadOptions& options,
                        const Context& context) const override {
    WEXLO_TRY(const Bytes bytes, made(context));
    WEXLO_CHECK(sink.resize(bytes.size()));
    WEXLO_CHECK(sink.write_at(0, bytes));
    Verified out{.sha256 = {}, .proof = "sha-1", .remark = {}};
    if (options.digest) out.sha256 = sha256_hex(bytes);
    return out;
  }

 private:
  Error needs_base() const {
    return {.code = ErrorCode::Unsupported,
            .message = fmt::format("{} is stored as a patch of the older build", what_.partition),
            .file = patch_->name(),
            .hint = "Give the older build with --base, or take the full package."};
  }

  Result<Bytes> made(const Context& context) const {
    if (base_ == nullptr) return fail(needs_base());
    if (what_.old_size > kMostPatched || what_.new_size > kMostPatched)
      return fail(
          {.code = ErrorCode::LimitExceeded,
           .message = fmt::format("the patch of {} is for too large an image", what_.partition),
           .file = patch_->name(),
           .expected = fmt::format("at most {} bytes", kMostPatched),
           .found = fmt::format("{} bytes", std::max(what_.old_size, what_.new_size)),
           .hint = "No boot image is that large: do not trust this package."});
    WEXLO_TRY(const SourcePtr before, base_->image(what_.partition, context));
    WEXLO_TRY(const Bytes old, read_some(*before, 0, what_.old_size));
    WEXLO_CHECK(
        check(old, what_.old_sha1, "the base's image is not the one that the patch is for"));
    WEXLO_TRY(const Blob patch, read_all(*patch_, kMostPatch));
    Bytes out;
    auto applied =
        apply_image_patch(patch.view(), old_bytes(old), what_.new_size, [&](View piece) -> Status {
          append(out, piece);
          return check_stop(context);
        });
    if (!applied) return fail(in_file(std::move(applied).error(), patch_->name()));
    WEXLO_CHECK(check(out, what_.new_sha1, "the patched image is not what the script promises"));
    return out;
  }

  Status check(View bytes, const std::string& wanted, const char* message) const {
    const std::string found = hex(digest(DigestKind::Sha1, bytes));
    if (found == wanted) return {};
    return fail({.code = ErrorCode::DigestMismatch,
                 .message = message,
                 .file = patch_->name(),
                 .expected = wanted,
                 .found = found,
                 .hint = "The base is of another build, or was changed."});
  }

  ScriptPatch what_;
  SourcePtr patch_;
  std::shared_ptr<const BaseImages> base_;
};

}  // namespace

std::vector<ScriptPatch> read_script_patches(std::string_view script) {
  std::vector<ScriptPatch> out;
  const auto gather = [&](std::string_view call, auto read) {
    for (std::size_t at = script.find(call); at != script.npos; at = script.find(call, at + 1)) {
      // `apply_patch_check(` and the like only look.
      auto patch = read(quoted(script.substr(at + call.size() - 1)));
      const bool whole = patch && patch->new_size > 0 && is_sha1(patch->old_sha1) &&
                         is_sha1(patch->new_sha1) && check_partition_name(patch->partition);
      if (whole) out.push_back(std::move(*patch));
    }
  };
  gather("apply_patch(", of_one_place);
  gather("patch_partition(", of_two_places);
  return out;
}

ContentPtr script_patch_content(const ScriptPatch& what, SourcePtr patch, const Opening& opening) {
  return std::make_shared<ScriptPatchContent>(what, std::move(patch), opening);
}

}  // namespace wexlo
