#include "flash/rehearsal.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "base/error_kinds.hpp"
#include "flash/bench_phone.hpp"
#include "flash/phones_own.hpp"
#include "flash/simulated_hands.hpp"
#include "image/partitions.hpp"
#include "kit/plan/plan_text.hpp"

namespace wexlo {
namespace {

class Rehearser {
 public:
  Rehearser(const RehearsalInput& input, const Context& context) : in_(input), context_(context) {}

  Result<Rehearsal> run() {
    WEXLO_TRY(phone_, make_kit_phone(in_.phone, Faults(in_.faults), context_));
    find_own();
    WEXLO_TRY(stock_, StockState::of(*phone_, {out_.not_here.begin(), out_.not_here.end()}));
    take_in_hand(*phone_, *stock_);
    phone_->on_start = [this](const SourcePtr& once) {
      trial_ = once != nullptr;
      // The same image is started once more when it is written: that one is told of.
      if (trial_) return;
      auto started = power_on(*phone_, stock_, once);
      if (!started) trouble_ = started.error();
      if (started) started_ = std::move(*started);
    };
    WEXLO_CHECK(forward());
    WEXLO_CHECK(back());
    return std::move(out_);
  }

 private:
  /// Of the images that take part in a start, those that nobody here has; a firmware may leave some
  /// to the phone, too.
  void find_own() {
    std::set<std::string> own = phones_own([this](const std::string& partition) -> SourcePtr {
      const std::string name = phone_->full_name(partition);
      const auto content = name.empty() ? Result<SourcePtr>(nullptr) : phone_->content(name);
      return content ? *content : nullptr;
    });
    for (const std::string& name : in_.phone.chain)
      if (phone_->full_name(name).empty()) own.insert(name);
    out_.not_here.assign(own.begin(), own.end());
  }

  BenchFiles files() const {
    BenchFiles out{.kit = in_.open,
                   .stock = [this](const std::string& partition) -> Result<SourcePtr> {
                     const auto at = in_.phone.stock.find(partition);
                     return at == in_.phone.stock.end() ? nullptr : at->second;
                   },
                   .package = {},
                   .instead = {}};
    for (const auto& [name, image] : in_.phone.stock)
      out.package.push_back(name);
    return out;
  }

  Result<Played> played(const std::vector<Step>& steps) {
    SimulatedHands hands(*phone_, files());
    started_.reset();
    Played out = play(steps, *phone_, hands, in_.open);
    unknown_ = hands.unknown;
    if (trouble_) return fail(*trouble_);
    // What ended this run is no fault of the phone's; a file of the kit that does not read neither.
    if (out.error && is_of_this_run(out.error->code)) return fail(*out.error);
    return out;
  }

  static std::string words_of(const Error& why) {
    std::string out = why.message;
    if (!why.expected.empty()) out += fmt::format(": expected {}", why.expected);
    if (!why.found.empty()) out += fmt::format(", found {}", why.found);
    return out;
  }

  Status forward() {
    WEXLO_TRY(Played done, played(in_.phone.plan.steps));
    out_.steps = std::move(done.steps);
    if (done.error) {
      out_.verdict = StartVerdict::Stops;
      out_.cause = StartCause::StepFailed;
      out_.reason =
          fmt::format("Step {} does not go through: {}.", last_title(), words_of(*done.error));
      return {};
    }
    if (!started_ || trial_) {
      out_.reason = "The plan does not start the phone: what comes of it was not seen.";
      return {};
    }
    out_.verdict = started_->verdict;
    out_.cause = started_->cause;
    out_.reason = started_->reason;
    out_.addon = started_->addon;
    out_.boot_log = started_->log;
    out_.shows = started_->shows;
    tell_data();
    if (!unknown_.empty() && !out_.stops()) {
      out_.verdict = StartVerdict::CannotTell;
      out_.cause = StartCause::NotKnown;
      out_.reason = fmt::format("What {} writes is not known here. Apart from that: {}", unknown_,
                                out_.reason);
    }
    if (!out_.not_here.empty() && out_.verdict != StartVerdict::Stops)
      out_.reason += fmt::format(" Taken for the phone's own, of the same build: {}.",
                                 fmt::join(out_.not_here, ", "));
    return {};
  }

  [[nodiscard]] std::string last_title() const {
    const std::size_t count = out_.steps.size();
    if (count == 0) return "1";
    return fmt::format(
        "{} ({})", out_.steps.back().id,
        step_title(*std::ranges::find(in_.phone.plan.steps, out_.steps.back().id, &Step::id)));
  }

  /// Data that is lost though no step says so: a part of a package that wipes.
  void tell_data() {
    const bool planned = std::ranges::any_of(in_.phone.plan.steps,
                                             [](const Step& one) { return one.risk.data_loss; });
    if (!phone_->state.data.wiped || planned || out_.verdict != StartVerdict::Starts) return;
    out_.verdict = StartVerdict::StartsWithWarning;
    out_.cause = StartCause::DataWiped;
    out_.reason =
        "The phone starts, and the user's data was erased though no step says so: a part "
        "of a package wipes. Take the part that keeps the data.";
  }

  /// The way back is played from wherever the plan has led.
  Status back() {
    if (out_.steps.empty() || out_.cause == StartCause::StepFailed) return {};
    WEXLO_TRY(Played done, played(in_.phone.plan.back));
    RehearsedBack back;
    back.steps = std::move(done.steps);
    if (done.error) {
      back.verdict = StartVerdict::Stops;
      back.reason =
          fmt::format("Step {} does not go through: {}.",
                      back.steps.empty() ? "1" : back.steps.back().id, words_of(*done.error));
    } else if (started_) {
      back.verdict = started_->verdict;
      back.reason = started_->reason;
    }
    back.stock_again = is_stock();
    out_.back = std::move(back);
    return {};
  }

  [[nodiscard]] bool is_stock() {
    return std::ranges::all_of(stock_->images, [&](const auto& one) {
      const auto now = phone_->content(one.first);
      if (!now) return false;
      const auto held = is_held(
          {one.second.source, {{0, one.second.source->size()}}}, 1u << 20,
          [&](std::uint64_t at, MutableView out) { return (*now)->read_at(at, out); }, context_);
      return held && *held;
    });
  }

  const RehearsalInput& in_;
  const Context& context_;
  std::unique_ptr<SimulatedPhone> phone_;
  StockStatePtr stock_;
  std::optional<PoweredOn> started_;
  std::optional<Error> trouble_;
  std::string unknown_;  ///< a package whose contents nobody here can read; empty: none
  bool trial_ = false;
  Rehearsal out_;
};

}  // namespace

Result<Rehearsal> rehearse(const RehearsalInput& input, const Context& context) {
  return Rehearser(input, context).run();
}

}  // namespace wexlo
