#include "time_text.hpp"

#include <fmt/format.h>

#include <chrono>

namespace wexlo::cli {

std::string utc_time(std::uint64_t seconds) {
  using namespace std::chrono;
  constexpr std::uint64_t kYear9999 = 253'402'300'799;
  if (seconds > kYear9999) return fmt::format("{} seconds since 1970", seconds);
  const sys_seconds time{std::chrono::seconds(seconds)};
  const auto day = floor<days>(time);
  const year_month_day date(day);
  const hh_mm_ss clock(time - day);
  return fmt::format("{:04}-{:02}-{:02} {:02}:{:02} UTC", static_cast<int>(date.year()),
                     static_cast<unsigned>(date.month()), static_cast<unsigned>(date.day()),
                     clock.hours().count(), clock.minutes().count());
}

}  // namespace wexlo::cli
