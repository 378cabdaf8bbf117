#include "firmware/opening.hpp"

#include <fmt/format.h>

namespace wexlo {

Status check_nesting(unsigned depth, const std::string& name) {
  constexpr unsigned kMost = 8;
  if (depth <= kMost) return {};
  return fail({.code = ErrorCode::LimitExceeded,
               .message = "packages are nested too deep",
               .file = name,
               .expected = fmt::format("at most {} packages around it", kMost),
               .found = fmt::format("{}", depth),
               .hint = "No stock firmware is: do not trust this file."});
}

Result<SourcePtr> BaseImages::image(const std::string& partition, const Context& context) const {
  const std::lock_guard lock(mutex_);
  if (const auto kept = open_.find(partition); kept != open_.end()) return kept->second;
  WEXLO_TRY(const PartitionFacts* const facts, firmware_->choose(partition, name_));
  WEXLO_TRY(SourcePtr source, facts->content->source(context));
  // Patches read here and there: what is packed is unpacked once.
  if (!source->seekable()) {
    WEXLO_TRY(source, spill(*facts->content, facts->size, source->name(), context));
  }
  return open_.emplace(partition, std::move(source)).first->second;
}

}  // namespace wexlo
