#include "firmware/transfer_list.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "base/contains.hpp"
#include "text/hex.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

constexpr std::uint64_t kBlock = 4096;
constexpr std::uint64_t kMaxListBlocks = std::uint64_t{1} << 26;  ///< 256 GiB
constexpr std::size_t kCopiedAtOnce = 1u << 20;

std::optional<std::uint64_t> decimal(std::string_view text) {
  std::uint64_t value = 0;
  const auto [end, bad] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (bad != std::errc() || end != text.data() + text.size() || text.empty()) return std::nullopt;
  return value;
}

class ListReader {
 public:
  explicit ListReader(std::string name) : name_(std::move(name)) {}

  Result<TransferPlan> read(std::string_view text) {
    while (!text.empty()) {
      const std::size_t end = std::min(text.find('\n'), text.size());
      ++line_;
      WEXLO_CHECK(take(split_words(text.substr(0, end))));
      text.remove_prefix(std::min(end + 1, text.size()));
    }
    if (line_ < 2 || out_.version == 0) return fail(bad("the list has no version and size"));
    out_.size = end_ * kBlock;
    const bool in_order = !out_.foreign.empty() ||
                          contains(out_.commands, TransferAct::HashTree, &TransferCommand::act);
    if (!in_order) out_.commands.clear();
    return std::move(out_);
  }

 private:
  Error bad(std::string message) const {
    return {.code = ErrorCode::BadValue,
            .message = fmt::format("line {}: {}", line_, message),
            .file = name_,
            .hint = "The package is damaged: fetch it again."};
  }

  Status take(const std::vector<std::string_view>& words) {
    if (words.empty()) return {};
    if (line_ == 1) {
      const auto version = decimal(words[0]);
      if (!version || *version < 1 || *version > 4)
        return fail(bad(fmt::format("expected a version from 1 to 4, found \"{}\"", words[0])));
      out_.version = static_cast<unsigned>(*version);
      return {};
    }
    // Version 1 has one more line before the commands, later ones three.
    if (line_ == 2 || (out_.version >= 2 && line_ <= 4)) {
      if (words.size() != 1 || !decimal(words[0])) return fail(bad("expected a decimal"));
      return {};
    }
    return command(words);
  }

  Status command(const std::vector<std::string_view>& words) {
    const std::string_view name = words[0];
    if (name == "free") {
      if (words.size() == 2)
        out_.commands.push_back({.act = TransferAct::Free, .id = std::string(words[1])});
      return {};
    }
    if (name == "compute_hash_tree") return hash_tree(words);
    if (name != "new" && name != "zero" && name != "erase") return older(words);
    if (words.size() != 2) return fail(bad(fmt::format("{} takes one range set", name)));
    WEXLO_TRY(BlockRanges blocks, ranges(words[1]));
    if (name == "new")
      for (const auto& [begin, end] : blocks)
        out_.ranges.emplace_back(begin * kBlock, end * kBlock);
    out_.commands.push_back(
        {.act = name == "new" ? TransferAct::New : TransferAct::Zero, .target = std::move(blocks)});
    return {};
  }

  /// The tree over what was written: where it goes, what it covers, its digest, salt and root.
  Status hash_tree(const std::vector<std::string_view>& words) {
    if (words.size() != 6)
      return fail(
          bad("compute_hash_tree takes two range sets, a digest's name, a salt and a root"));
    TransferCommand out{.act = TransferAct::HashTree};
    WEXLO_TRY(out.target, ranges(words[1]));
    WEXLO_TRY(out.source.ranges, ranges(words[2]));
    out.algorithm = words[3];
    const auto salt = bytes_of_hex(words[4]);
    if (!salt) return fail(bad(fmt::format("expected a salt in hex, found \"{}\"", words[4])));
    out.salt = *salt;
    out.root = lower_case(words[5]);
    out_.commands.push_back(std::move(out));
    return {};
  }

  /// A command that starts from the older build.
  Status older(const std::vector<std::string_view>& words) {
    static constexpr std::string_view kKnown[] = {"move", "bsdiff", "imgdiff", "stash"};
    const std::string_view name = words[0];
    if (std::ranges::find(kKnown, name) == std::end(kKnown))
      return fail(bad(fmt::format("unknown command \"{}\"", name)));
    if (out_.foreign.empty()) out_.foreign = name;
    words_ = std::vector<std::string_view>(words.begin() + 1, words.end());
    TransferCommand out;
    if (name == "stash") {
      out.act = TransferAct::Stash;
      WEXLO_TRY(const std::string_view id, next("an id"));
      out.id = id;
      WEXLO_TRY(const std::string_view set, next("a range set"));
      WEXLO_TRY(out.source.ranges, ranges(set));
    } else {
      out.act = name == "move" ? TransferAct::Move : TransferAct::Patch;
      if (name != "move") {
        WEXLO_TRY(out.patch_at, next_number());
        WEXLO_TRY(out.patch_size, next_number());
      }
      WEXLO_CHECK(places(out));
    }
    out_.commands.push_back(std::move(out));
    return {};
  }

  /// Digests, target and source of a move or a patch, by the list's version.
  Status places(TransferCommand& out) {
    if (out_.version == 1) {
      WEXLO_TRY(const std::string_view source, next("the old range set"));
      WEXLO_TRY(out.source.ranges, ranges(source));
      WEXLO_TRY(const std::string_view target, next("the new range set"));
      WEXLO_TRY(out.target, ranges(target));
      out.source.blocks = count(out.source.ranges);
      return {};
    }
    if (out_.version >= 3) {
      WEXLO_TRY(const std::string_view old, next("a digest"));
      out.old_sha1 = old;
      out.new_sha1 = old;
      if (out.act == TransferAct::Patch) {
        WEXLO_TRY(const std::string_view now, next("a second digest"));
        out.new_sha1 = now;
      }
    }
    WEXLO_TRY(const std::string_view target, next("the new range set"));
    WEXLO_TRY(out.target, ranges(target));
    WEXLO_TRY(out.source.blocks, next_number());
    WEXLO_TRY(const std::string_view from, next("the old range set"));
    if (from != "-") {
      WEXLO_TRY(out.source.ranges, ranges(from));
      if (words_.empty()) return {};
      WEXLO_TRY(const std::string_view at, next("its places"));
      WEXLO_TRY(out.source.places, ranges(at));
    }
    while (!words_.empty()) {
      WEXLO_TRY(const std::string_view stash, next("a stash"));
      const std::size_t colon = stash.find(':');
      if (colon == stash.npos) return fail(bad("a stash has no places"));
      WEXLO_TRY(BlockRanges at, ranges(stash.substr(colon + 1)));
      out.source.stashed.emplace_back(stash.substr(0, colon), std::move(at));
    }
    return {};
  }

  Result<std::string_view> next(std::string_view what) {
    if (words_.empty()) return fail(bad(fmt::format("{} is missing", what)));
    const std::string_view out = words_.front();
    words_.erase(words_.begin());
    return out;
  }
  Result<std::uint64_t> next_number() {
    WEXLO_TRY(const std::string_view word, next("a number"));
    const auto value = decimal(word);
    if (!value) return fail(bad(fmt::format("\"{}\" is no decimal", word)));
    return *value;
  }
  static std::uint64_t count(const BlockRanges& ranges) {
    std::uint64_t out = 0;
    for (const auto& [begin, end] : ranges)
      out += end - begin;
    return out;
  }

  Result<BlockRanges> ranges(std::string_view set) {
    BlockRanges out;
    std::vector<std::uint64_t> values;
    while (!set.empty()) {
      const std::size_t comma = std::min(set.find(','), set.size());
      const auto value = decimal(set.substr(0, comma));
      if (!value) return fail(bad("a range set holds something that is no decimal"));
      values.push_back(*value);
      set.remove_prefix(std::min(comma + 1, set.size()));
    }
    if (values.size() < 3 || values[0] != values.size() - 1 || values[0] % 2 != 0)
      return fail(bad("a range set's count is not what follows"));
    for (std::size_t i = 1; i < values.size(); i += 2) {
      const std::uint64_t begin = values[i], end = values[i + 1];
      if (end <= begin || end > kMaxListBlocks)
        return fail(bad(fmt::format("blocks {} to {} are out of range", begin, end)));
      end_ = std::max(end_, end);
      out.emplace_back(begin, end);
    }
    return out;
  }

  std::string name_;
  std::vector<std::string_view> words_;  ///< of the command, that were not read yet
  TransferPlan out_;
  std::size_t line_ = 0;
  std::uint64_t end_ = 0;
};

class TransferContent final : public Content {
 public:
  TransferContent(TransferPlan plan, SourcePtr data)
      : plan_(std::move(plan)), data_(std::move(data)) {}

  const void* stream() const override { return data_->stream(); }
  Result<Bytes> head(std::size_t count) const override {
    Bytes out(static_cast<std::size_t>(std::min<std::uint64_t>(count, plan_.size)));
    std::uint64_t at = 0;
    for (const auto& [begin, end] : plan_.ranges) {
      if (begin < out.size()) {
        // Only where it stands among the first data: else too much would be unpacked.
        if (at > kHeadBudget) break;
        const auto size =
            static_cast<std::size_t>(std::min<std::uint64_t>(end, out.size()) - begin);
        WEXLO_CHECK(
            data_->read_at(at, MutableView(out).subspan(static_cast<std::size_t>(begin), size)));
      }
      at += end - begin;
    }
    return out;
  }

  Result<SourcePtr> source(const Context& context) const override {
    WEXLO_CHECK(check());
    if (!data_->seekable()) return spill(*this, plan_.size, data_->name(), context);
    auto ranges = plan_.ranges;
    std::vector<Piece> pieces;
    std::uint64_t at = 0, done = 0;
    struct Place {
      std::uint64_t begin, end, at;
    };
    std::vector<Place> places;
    for (const auto& [begin, end] : ranges) {
      places.push_back({begin, end, at});
      at += end - begin;
    }
    std::ranges::sort(places, {}, &Place::begin);
    for (const Place& place : places) {
      if (place.begin > done) pieces.push_back({nullptr, 0, place.begin - done});
      pieces.push_back({data_, place.at, place.end - place.begin});
      done = place.end;
    }
    pieces.push_back({nullptr, 0, plan_.size - done});
    return open_joined(std::move(pieces), data_->name());
  }

  Result<Verified> read(ImageSink& sink, const ReadOptions& options,
                        const Context& context) const override {
    WEXLO_CHECK(check());
    // In one go where the data can be read in any order: digests run beside the copying.
    if (data_->seekable()) {
      WEXLO_TRY(const SourcePtr whole, source(context));
      return copy_source(*whole, {}, sink, options, context);
    }
    WEXLO_CHECK(check_image_size(plan_.size, data_->name(), context));
    WEXLO_CHECK(sink.resize(plan_.size));
    Bytes piece(kCopiedAtOnce);
    std::uint64_t from = 0;
    for (auto [at, end] : plan_.ranges)
      while (at < end) {
        WEXLO_CHECK(check_stop(context));
        const MutableView part =
            MutableView(piece).first(std::min<std::uint64_t>(kCopiedAtOnce, end - at));
        WEXLO_CHECK(data_->read_at(from, part));
        WEXLO_CHECK(sink.write_at(at, part));
        from += part.size();
        at += part.size();
        if (context.progress) context.progress(from, data_->size());
      }
    Verified out;
    if (options.digest) {
      WEXLO_TRY(out.sha256, digest_of(sink, plan_.size, context));
    }
    return out;
  }

 private:
  /// What can be wrong is known before anything is written.
  Status check() const {
    if (!plan_.foreign.empty())
      return fail(
          {.code = ErrorCode::Unsupported,
           .message = fmt::format("the list patches the older build (\"{}\")", plan_.foreign),
           .file = data_->name(),
           .hint = "Take the full package of the build."});
    auto sorted = plan_.ranges;
    std::ranges::sort(sorted);
    std::uint64_t last = 0;
    for (const auto& [begin, end] : sorted) {
      if (begin < last)
        return fail({.code = ErrorCode::BadValue,
                     .message = fmt::format("the list writes twice to block {}", begin / kBlock),
                     .file = data_->name(),
                     .hint = "The package is damaged: fetch it again."});
      last = end;
    }
    const std::uint64_t total = plan_.data_size();
    if (total == data_->size()) return {};
    return fail({.code = total > data_->size() ? ErrorCode::Truncated : ErrorCode::Corrupt,
                 .message = "the new data is not as long as the list's ranges",
                 .file = data_->name(),
                 .expected = fmt::format("{} bytes", total),
                 .found = fmt::format("{} bytes", data_->size()),
                 .hint = "The package is damaged: fetch it again."});
  }

  TransferPlan plan_;
  SourcePtr data_;
};

}  // namespace

std::uint64_t TransferPlan::data_size() const {
  std::uint64_t total = 0;
  for (const auto& [begin, end] : ranges)
    total += end - begin;
  return total;
}

Result<TransferPlan> read_transfer_list(std::string_view text, const std::string& name) {
  return ListReader(name).read(text);
}

ContentPtr transfer_content(TransferPlan plan, SourcePtr data) {
  return std::make_shared<TransferContent>(std::move(plan), std::move(data));
}

}  // namespace wexlo
