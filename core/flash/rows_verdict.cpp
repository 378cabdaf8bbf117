#include "flash/rows_verdict.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

namespace wexlo {
namespace {

struct Count {
  std::size_t holds = 0, differs = 0, unseen = 0;
};

class Deciding {
 public:
  Deciding(const std::vector<RecordRow>& rows, const std::vector<RowWeight>& weights, bool stock)
      : rows_(rows), weights_(weights), stock_(stock) {}

  RowsVerdict run() {
    const Count phone = count(RowWeight::Phone), place = count(RowWeight::Place),
                core = count(RowWeight::Core), side = count(RowWeight::Side);
    if (phone.differs > 0)
      return {Took::CannotTell,
              "What was seen is of another phone: nothing can be told of this one."};
    if (phone.unseen > 0) return {Took::CannotTell, "Which phone this was seen of is not known."};
    if (place.differs > 0 && core.holds > 0)
      return {Took::CannotTell,
              stock_ ? capital(differing(RowWeight::Place)) +
                           " not as planned, and the stock system was seen: these were seen at "
                           "different times."
                     : "What was put in runs, and it should not where the phone started from: "
                       "these were seen at different times."};
    if (place.differs > 0) return {Took::No, capital(as_planned(RowWeight::Place))};
    if (core.holds == 0 && core.differs > 0 && core.unseen == 0)
      return {Took::No, capital(as_planned(RowWeight::Core))};
    const bool differs = core.differs + side.differs > 0;
    if (core.holds > 0 && differs) return {Took::InPart, "What was put in runs; " + as_planned({})};
    if (core.holds > 0 && core.unseen + side.unseen + place.unseen == 0)
      return {Took::Yes, stock_ ? "The stock system is back, and all of it is as planned."
                                : "What was put in runs, and all else is as planned."};
    return {Took::CannotTell,
            fmt::format("Whether it took cannot be told yet: {}nothing was seen of {}.",
                        differs ? differing({}) + " not as planned, and " : "",
                        fmt::join(names(RowVerdict::NotSeen, {}), ", "))};
  }

 private:
  [[nodiscard]] Count count(RowWeight weight) const {
    Count out;
    for (std::size_t i = 0; i < rows_.size(); ++i) {
      if (weights_[i] != weight) continue;
      switch (rows_[i].verdict) {
        case RowVerdict::Holds: ++out.holds; break;
        case RowVerdict::Differs: ++out.differs; break;
        case RowVerdict::NotSeen: ++out.unseen; break;
      }
    }
    return out;
  }
  /// @param weight  nullopt: all that count
  [[nodiscard]] std::vector<std::string> names(RowVerdict verdict,
                                               std::optional<RowWeight> weight) const {
    std::vector<std::string> out;
    for (std::size_t i = 0; i < rows_.size(); ++i)
      if (rows_[i].verdict == verdict && weights_[i] != RowWeight::Advice &&
          (!weight || weights_[i] == *weight))
        out.push_back(rows_[i].what);
    return out;
  }
  [[nodiscard]] std::string differing(std::optional<RowWeight> weight) const {
    const auto all = names(RowVerdict::Differs, weight);
    return fmt::format("{} {}", fmt::join(all, ", "), all.size() == 1 ? "is" : "are");
  }
  [[nodiscard]] std::string as_planned(std::optional<RowWeight> weight) const {
    return differing(weight) + " not as planned.";
  }

  static std::string capital(std::string text) {
    if (!text.empty() && text[0] >= 'a' && text[0] <= 'z')
      text[0] = static_cast<char>(text[0] - 'a' + 'A');
    return text;
  }

  const std::vector<RecordRow>& rows_;
  const std::vector<RowWeight>& weights_;
  bool stock_;
};

}  // namespace

RowsVerdict verdict_of(const std::vector<RecordRow>& rows, const std::vector<RowWeight>& weights,
                       bool stock) {
  return Deciding(rows, weights, stock).run();
}

}  // namespace wexlo
