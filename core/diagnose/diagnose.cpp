#include "diagnose/diagnose.hpp"

#include <algorithm>

namespace wexlo {
namespace {

/// The same said twice speaks once.
void join(EvidenceList& all, EvidenceList more) {
  for (Evidence& one : more) {
    const bool known = std::ranges::any_of(all, [&](const Evidence& other) {
      return other.cause == one.cause && other.text == one.text;
    });
    if (!known) all.push_back(std::move(one));
  }
}

}  // namespace

bool RankedCause::is_supported() const {
  return std::ranges::any_of(evidence, [](const Evidence& one) { return !one.fits_alone; });
}

Result<Diagnosis> diagnose(const DiagnoseInput& input, const Context& context) {
  EvidenceList all;
  WEXLO_TRY(auto images, evidence_of_images(input, context));
  join(all, std::move(images));
  join(all, evidence_of_phone(input));
  if (input.observed != nullptr) join(all, evidence_of_logs(*input.observed));
  if (input.symptom) join(all, evidence_of_symptom(*input.symptom));
  Diagnosis out;
  for (const CauseRow& row : cause_rows()) {
    RankedCause one{.cause = row.cause};
    for (Evidence& evidence : all) {
      if (evidence.cause != row.cause) continue;
      one.rank += evidence.weight;
      (evidence.weight > 0 ? one.evidence : one.against).push_back(std::move(evidence));
    }
    if (one.evidence.empty() || one.rank <= 0) continue;
    const auto heavier = [](const Evidence& a, const Evidence& b) { return a.weight > b.weight; };
    std::ranges::stable_sort(one.evidence, heavier);
    out.causes.push_back(std::move(one));
  }
  std::ranges::stable_sort(out.causes, std::ranges::greater(), &RankedCause::rank);
  return out;
}

}  // namespace wexlo
