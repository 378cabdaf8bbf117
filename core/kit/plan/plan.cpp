#include "kit/plan/plan.hpp"

#include <algorithm>

namespace wexlo {
namespace {

constexpr unsigned kSecondsPerWrite = 5;
constexpr std::uint64_t kBytesPerSecond = 20u << 20;

}  // namespace

unsigned usual_write_seconds(std::uint64_t bytes) {
  return kSecondsPerWrite +
         static_cast<unsigned>(std::min<std::uint64_t>(bytes, 1ull << 40) / kBytesPerSecond);
}

void fill_in(Plan& plan, const std::map<std::string, KitFile>& files) {
  for (auto* steps : {&plan.steps, &plan.back})
    for (Step& step : *steps) {
      KitFile* file = file_of(step.act);
      if (file == nullptr) continue;
      const auto written = files.find(file->file);
      if (written == files.end()) continue;
      *file = written->second;
      if (step.is<act::Write>()) step.usual_seconds = usual_write_seconds(file->size);
    }
}

}  // namespace wexlo
