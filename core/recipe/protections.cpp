/// Which protections an edit lowers, and what that means for the phone's owner.

#include <algorithm>
#include <array>

#include "recipe/work.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo {
namespace {

struct Rule {
  std::string_view name, value;  ///< value "*": whatever it is; "": the word was removed
  FindingCode code;
  std::string_view about;
};

constexpr FindingCode kMounts = FindingCode::ProtectionMountVerification,
                      kBoot = FindingCode::ProtectionVerifiedBoot,
                      kEncryption = FindingCode::ProtectionEncryption,
                      kSelinux = FindingCode::ProtectionSelinux,
                      kDebug = FindingCode::ProtectionDebugging;

constexpr std::string_view kSelinuxAbout =
    "SELinux no longer holds programs apart: any of them may do what root may.";
constexpr std::string_view kMountsAbout =
    "Changed system-side partitions are mounted: nobody notices if something else changed them.";

/// Properties, words of the command line and bootconfig keys.
constexpr std::array kRules{
    Rule{"androidboot.selinux", "permissive", kSelinux, kSelinuxAbout},
    Rule{"androidboot.selinux", "disabled", kSelinux, kSelinuxAbout},
    Rule{"ro.boot.selinux", "permissive", kSelinux, kSelinuxAbout},
    Rule{"enforcing", "0", kSelinux, kSelinuxAbout},
    Rule{"selinux", "0", kSelinux, kSelinuxAbout},
    Rule{"androidboot.veritymode", "disabled", kMounts, kMountsAbout},
    Rule{"androidboot.veritymode", "logging", kMounts, kMountsAbout},
    Rule{"androidboot.veritymode", "", kMounts, kMountsAbout},
    Rule{"ro.boot.veritymode", "disabled", kMounts, kMountsAbout},
    Rule{"dm", "", kMounts, kMountsAbout},
    Rule{"androidboot.vbmeta.avb_version", "", kBoot,
         "The system no longer learns how its images were verified."},
    Rule{"androidboot.verifiedbootstate", "*", kBoot,
         "The system is told another state of verification than the loader found."},
    Rule{"ro.debuggable", "1", kDebug,
         "Whoever holds the phone unlocked can debug every program on it."},
    Rule{"ro.secure", "0", kDebug, "The debugging service runs as root."},
    Rule{"ro.adb.secure", "0", kDebug, "The debugging service asks nobody before it lets in."},
    Rule{"service.adb.root", "1", kDebug, "The debugging service runs as root."},
};

}  // namespace

void judge_word(Work& work, std::string_view name, std::string_view value) {
  for (const Rule& rule : kRules)
    if (rule.name == name && (rule.value == "*" || rule.value == value))
      work.lower(rule.code, rule.about);
}

void judge_property(Work& work, std::string_view name, std::string_view value) {
  judge_word(work, name, value);
}

void judge_flags(Work& work, const std::vector<std::string>& dropped) {
  const auto any = [&](const auto& names) {
    return std::ranges::any_of(dropped, [&](const std::string& flag) {
      return std::ranges::find(names, flag) != names.end();
    });
  };
  constexpr std::array kVerify{std::string_view("avb"), std::string_view("avb_keys"),
                               std::string_view("verify"), std::string_view("verifyatboot"),
                               std::string_view("avb_hashtree_digest")};
  constexpr std::array kEncrypt{
      std::string_view("fileencryption"),      std::string_view("forceencrypt"),
      std::string_view("forcefdeorfbe"),       std::string_view("encryptable"),
      std::string_view("metadata_encryption"), std::string_view("keydirectory")};
  if (any(kVerify)) work.lower(kMounts, kMountsAbout);
  if (any(kEncrypt))
    work.lower(kEncryption,
               "User data is not encrypted when it is next erased, and data that is encrypted now "
               "cannot be read any more: the phone has to be wiped.");
}

void judge_vbmeta(Work& work, std::uint64_t flags) {
  if ((flags & verified::HashtreeDisabled) != 0) work.lower(kMounts, kMountsAbout);
  if ((flags & verified::VerificationDisabled) != 0)
    work.lower(kBoot,
               "The loader verifies nothing any more: any image is started, whoever wrote it.");
}

}  // namespace wexlo
