#include <fmt/format.h>

#include <algorithm>

#include "phone/simulated/store.hpp"

namespace wexlo {
namespace {

std::unexpected<Error> none(const std::string& name) {
  return fail({.code = ErrorCode::NotFound, .message = fmt::format("there is no {}", name)});
}

std::uint64_t whole(const std::vector<Piece>& pieces) {
  std::uint64_t out = 0;
  for (const Piece& one : pieces)
    out += one.size;
  return out;
}

/// The pieces with [at, at + size) taken from elsewhere.
std::vector<Piece> laid_over(const std::vector<Piece>& old, const Put& put) {
  std::vector<Piece> out;
  std::uint64_t begin = 0;
  bool placed = false;
  const auto place = [&] {
    if (!std::exchange(placed, true)) out.push_back({put.source, put.from, put.size});
  };
  for (const Piece& one : old) {
    const std::uint64_t end = begin + one.size, stop = put.at + put.size;
    if (begin < put.at) {
      const std::uint64_t size = std::min(end, put.at) - begin;
      out.push_back({one.source, one.offset, size});
    }
    if (end > put.at) place();
    if (end > stop) {
      const std::uint64_t from = std::max(begin, stop);
      out.push_back({one.source, one.offset + (from - begin), end - from});
    }
    begin = end;
  }
  return out;
}

class StagedScratch final : public Staged {
 public:
  StagedScratch(std::shared_ptr<Scratch> scratch, std::uint64_t size)
      : scratch_(std::move(scratch)), size_(size) {}
  Status write_at(std::uint64_t offset, View bytes) override {
    return scratch_->write_at(offset, bytes);
  }
  SourcePtr source() const override { return open_scratch(scratch_, size_, "what was sent"); }

 private:
  std::shared_ptr<Scratch> scratch_;
  std::uint64_t size_;
};

}  // namespace

Result<std::unique_ptr<Staged>> PartitionStore::stage(std::uint64_t size) {
  WEXLO_TRY(auto scratch, Scratch::create());
  WEXLO_CHECK(scratch->resize(size));
  return std::make_unique<StagedScratch>(std::move(scratch), size);
}

std::map<std::string, std::uint64_t> MemoryStore::sizes() const {
  std::map<std::string, std::uint64_t> out;
  for (const auto& [name, pieces] : partitions_)
    out.emplace(name, whole(pieces));
  return out;
}

std::optional<std::uint64_t> MemoryStore::size_of(const std::string& name) const {
  const auto at = partitions_.find(name);
  if (at == partitions_.end()) return std::nullopt;
  return whole(at->second);
}

Result<SourcePtr> MemoryStore::read(const std::string& name) const {
  const auto at = partitions_.find(name);
  if (at == partitions_.end()) return none(name);
  const auto& pieces = at->second;
  // What one file fills is that file: readers keep what they know of it.
  if (pieces.size() == 1 && pieces.front().source && pieces.front().offset == 0 &&
      pieces.front().size == pieces.front().source->size())
    return pieces.front().source;
  return open_joined(pieces, name);
}

Status MemoryStore::put(const std::string& name, const std::vector<Put>& puts) {
  const auto at = partitions_.find(name);
  if (at == partitions_.end()) return none(name);
  for (const Put& one : puts)
    if (one.size > 0) at->second = laid_over(at->second, one);
  return {};
}

Status MemoryStore::add(const std::string& name, std::uint64_t size) {
  const bool fresh = partitions_.emplace(name, std::vector<Piece>{{nullptr, 0, size}}).second;
  if (fresh) return {};
  return fail({.code = ErrorCode::Exists, .message = fmt::format("{} is there already", name)});
}

std::unique_ptr<MemoryStore> MemoryStore::copy() const {
  auto out = std::make_unique<MemoryStore>();
  out->partitions_ = partitions_;
  return out;
}

}  // namespace wexlo
