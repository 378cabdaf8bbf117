#pragma once
/// Where evidence comes from: the images, what was seen of the phone, and what somebody sees of it.
/// Weights are the same for all: 40 and more where it nearly decides alone, 10 where it only fits.

#include "diagnose/cause.hpp"
#include "flash/expected.hpp"
#include "kit/facts/sheet.hpp"
#include "observed/observed.hpp"
#include "phone/symptom.hpp"

namespace wexlo {

/// Something that speaks for a cause (its weight above 0) or against it.
struct Evidence {
  Cause cause;
  int weight = 0;
  std::string text;         ///< a clause or sentence
  std::string where;        ///< a partition, or a line of what was seen; may be empty
  bool fits_alone = false;  ///< it only goes with what somebody sees: other causes do, too
};

struct DiagnoseInput {
  /// What was written, by bare partition name; and what the phone had, where it is known.
  std::map<std::string, SourcePtr> given, stock;
  const Expected* expected = nullptr;  ///< what the kit should have made; nullptr: there is no kit
  const KitManifest* kit = nullptr;
  const Plan* plan = nullptr;                    ///< of the kit
  const std::vector<LoggedRun>* runs = nullptr;  ///< of the kit's log, oldest first
  const Sheet* sheet = nullptr;
  std::optional<Symptom> symptom;
  const Observed* observed = nullptr;
};

using EvidenceList = std::vector<Evidence>;

/// The images on a simulated phone: how it starts, which rules they break, how they differ from
/// stock. Errors: Interrupted, those of reading.
[[nodiscard]] Result<EvidenceList> evidence_of_images(const DiagnoseInput& input,
                                                      const Context& context);
/// What the phone said, its sheet, and the flash log, against the kit.
[[nodiscard]] EvidenceList evidence_of_phone(const DiagnoseInput& input);
/// Signs of trouble in logs.
[[nodiscard]] EvidenceList evidence_of_logs(const Observed& observed);
[[nodiscard]] EvidenceList evidence_of_symptom(Symptom symptom);

}  // namespace wexlo
