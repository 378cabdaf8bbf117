#include "kit/verdict/given_judge.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/contains.hpp"
#include "text/nearest.hpp"

namespace wexlo {
namespace {

/// "korvale/gnomon/gnomon:16/…" names product and device in front of the colon.
std::vector<std::string> phone_words(const std::string& fingerprint) {
  std::vector<std::string> out;
  std::string_view head = std::string_view(fingerprint).substr(0, fingerprint.find(':'));
  if (head.size() == fingerprint.size()) return out;
  for (std::size_t at = head.find('/'); at != head.npos; at = head.find('/')) {
    head.remove_prefix(at + 1);
    out.emplace_back(head.substr(0, head.find('/')));
  }
  return out;
}

std::vector<std::string> phone_words(const BuildFacts& build) {
  std::vector<std::string> out = phone_words(build.fingerprint);
  for (const std::string& name : alternatives(build.device))
    out.push_back(name);
  return out;
}

/// Whether two phones have a name in common; true where either has none.
bool may_be_same_phone(const std::vector<std::string>& one, const std::vector<std::string>& other) {
  return one.empty() || other.empty() ||
         std::ranges::any_of(one, [&](const std::string& name) { return contains(other, name); });
}

/// The partition of the firmware that a mistyped name may stand for, as a sentence.
std::string meant(const std::string& name, const Firmware& firmware) {
  std::vector<std::string> names;
  for (const PartitionFacts& one : firmware.partitions)
    names.emplace_back(without_slot(one.name));
  const auto other = nearest(name, names);
  return other ? fmt::format(" Did you mean {}?", *other) : std::string();
}

/// The firmware's own image of a partition; nullptr: it has none.
const PartitionFacts* own_image(const Firmware& firmware, const std::string& name) {
  for (const PartitionFacts& one : firmware.partitions)
    if (without_slot(one.name) == name && one.size > 0) return &one;
  return nullptr;
}

/// What the image of a partition has to be: what the firmware's own is, else what its name says.
std::string kind_due(const Firmware& firmware, const std::string& name) {
  const std::string usual(image_kind_of(name));
  if (!is_boot_class(name)) return usual;
  if (const PartitionFacts* own = own_image(firmware, name)) {
    const auto start = own->content->head(kProbeSize);
    const auto found = start ? identify_bytes(*start) : std::nullopt;
    if (found) return std::string(found->format->kind);
  }
  return usual;
}

/// Whether the build that an image names is another phone's. A generic kernel's image names its own
/// build: where the firmware's own image does so, too, that tells nothing of the phone.
bool names_another_phone(const Firmware& firmware, const std::string& name,
                         const PartitionFacts& image) {
  const auto phone = phone_words(firmware.build);
  if (const PartitionFacts* own = own_image(firmware, name);
      own != nullptr && !may_be_same_phone(phone_words(build_in_image(*own)), phone))
    return false;
  return !may_be_same_phone(phone_words(build_in_image(image)), phone);
}

}  // namespace

std::vector<Finding> judge_given(const std::vector<Given>& given, const StockImages& stock,
                                 const SuperFacts& super, const Sheet* sheet) {
  std::vector<Finding> out;
  const Firmware& firmware = stock.firmware();
  for (const Given& one : given) {
    const auto problem = [&](FindingCode code, std::string message) {
      out.push_back({Level::Problem, {code, one.partition}, std::move(message), one.partition});
    };
    const std::string name(without_slot(one.partition));
    const bool known = stock.has(one.partition) || stock.has(name) ||
                       !logical_name(super, one.partition, sheet).empty() ||
                       (sheet != nullptr && sheet->size_of(name));
    if (!known)
      problem(FindingCode::UnknownPartition,
              fmt::format("Neither the firmware nor the sheet has a partition {}: the phone would "
                          "refuse the write.{}",
                          one.partition, meant(one.partition, firmware)));
    const std::string wanted = kind_due(firmware, name);
    if (!wanted.empty() && wanted != one.kind)
      problem(FindingCode::OtherKind,
              fmt::format("{} is {}, and the file given for it is {}.", one.partition, wanted,
                          one.kind.empty() ? "not recognised" : one.kind));
    const bool own = partition_class(name) != PartitionClass::Other;
    if (own && one.image != nullptr && names_another_phone(firmware, name, *one.image))
      problem(FindingCode::OtherPhone,
              fmt::format("The image given for {} is of the build {}: another phone than {}.",
                          one.partition, build_in_image(*one.image).fingerprint,
                          firmware.build.device));
  }
  return out;
}

std::vector<Finding> judge_older_phone(const std::string& device, const std::string& build,
                                       const BuildFacts& firmware) {
  std::vector<Finding> out;
  if (build.empty() && device.empty()) return out;
  BuildFacts before;
  before.fingerprint = build;
  before.device = device;
  if (!may_be_same_phone(phone_words(before), phone_words(firmware)))
    out.push_back({Level::Problem, FindingCode::LikeDevice,
                   fmt::format("The older kit is for {}, this firmware is for {}: another phone.",
                               device, firmware.device)});
  if (!build.empty() && firmware.fingerprint.empty())
    out.push_back(
        {Level::Warning, FindingCode::LikeBuildUnknown,
         "The package does not say which build it is: the kit is made as for a phone that runs it "
         "already. If it is an update, the phone has to take it first."});
  return out;
}

}  // namespace wexlo
