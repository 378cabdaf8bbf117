/// What logs and symptoms speak for.

#include <fmt/format.h>

#include "diagnose/evidence.hpp"

namespace wexlo {
namespace {

struct LogRow {
  LogSign sign;
  Cause cause;
  int weight;
};
constexpr LogRow kLogRows[] = {
    {LogSign::RamdiskUnpack, Cause::RamdiskPacking, 35},
    {LogSign::RamdiskUnpack, Cause::RamdiskJoint, 30},
    {LogSign::RootMount, Cause::RamdiskPacking, 10},
    {LogSign::RootMount, Cause::RamdiskJoint, 10},
    {LogSign::RootMount, Cause::SkipWord, 15},
    {LogSign::NoInit, Cause::FirstProgram, 30},
    {LogSign::InitDied, Cause::FirstProgram, 10},
    {LogSign::InitDied, Cause::MountTableForm, 10},
    {LogSign::InitMode, Cause::FirstProgram, 50},
    {LogSign::ExecFormat, Cause::FirstProgram, 45},
    {LogSign::MountTable, Cause::MountTableForm, 30},
    {LogSign::MountTable, Cause::MountTableLacks, 15},
    {LogSign::MountFailed, Cause::MountTableForm, 15},
    {LogSign::MountFailed, Cause::MountTableLacks, 20},
    {LogSign::MountFailed, Cause::HashTree, 10},
    {LogSign::MountFailed, Cause::SkipList, 15},
    {LogSign::HashTree, Cause::HashTree, 50},
    {LogSign::NotVerified, Cause::StaleDigest, 35},
    {LogSign::NotVerified, Cause::FooterLost, 15},
    {LogSign::NotVerified, Cause::LockedPhone, 10},
    {LogSign::RollbackIndex, Cause::Rollback, 50},
    {LogSign::ModuleVersion, Cause::ModuleGeneration, 50},
    {LogSign::DataKeys, Cause::DataKeys, 30},
    {LogSign::DataKeys, Cause::PatchLevel, 30},
    {LogSign::AsksErase, Cause::DataKeys, 10},
    {LogSign::AsksErase, Cause::PatchLevel, 10},
    {LogSign::NoRoom, Cause::SuperFull, 50},
    {LogSign::Refused, Cause::HalfWritten, 15},
    {LogSign::LockedRefuses, Cause::LockedPhone, 55},
    {LogSign::RestoredRecovery, Cause::RecoveryRestored, 55},
};

struct SymptomFits {
  Symptom symptom;
  Cause cause;
  int weight;
};
constexpr SymptomFits kSymptoms[] = {
    {Symptom::StaysInBootloader, Cause::StaleDigest, 15},
    {Symptom::StaysInBootloader, Cause::FooterLost, 15},
    {Symptom::StaysInBootloader, Cause::LockedPhone, 10},
    {Symptom::StaysInBootloader, Cause::Rollback, 15},
    {Symptom::StaysInBootloader, Cause::WrongImage, 15},
    {Symptom::StaysInBootloader, Cause::SlotMarked, 15},
    {Symptom::StaysInBootloader, Cause::HalfWritten, 10},
    {Symptom::StaysInBootloader, Cause::KernelPacking, 10},
    {Symptom::StaysInBootloader, Cause::OtherVariant, 10},
    {Symptom::LoopsAtOnce, Cause::RamdiskPacking, 15},
    {Symptom::LoopsAtOnce, Cause::RamdiskJoint, 15},
    {Symptom::LoopsAtOnce, Cause::FirstProgram, 15},
    {Symptom::LoopsAtOnce, Cause::MountTableForm, 10},
    {Symptom::LoopsAtOnce, Cause::MountTableLacks, 10},
    {Symptom::LoopsAtOnce, Cause::KernelPacking, 10},
    {Symptom::LoopsAtOnce, Cause::OtherVariant, 10},
    {Symptom::LoopsAtOnce, Cause::OtherBoard, 10},
    {Symptom::LoopsAtOnce, Cause::OtherBuild, 10},
    {Symptom::LoopsAtOnce, Cause::HashTree, 10},
    {Symptom::LoopsAtOnce, Cause::SkipList, 5},
    {Symptom::LoopsAtOnce, Cause::ModuleGeneration, 5},
    {Symptom::LoopsLater, Cause::SkipList, 15},
    {Symptom::LoopsLater, Cause::HalfUpdate, 15},
    {Symptom::LoopsLater, Cause::OtherBuild, 15},
    {Symptom::LoopsLater, Cause::ModuleGeneration, 15},
    {Symptom::LoopsLater, Cause::MountTableLacks, 10},
    {Symptom::LoopsLater, Cause::DataKeys, 5},
    {Symptom::LoopsLater, Cause::PatchLevel, 5},
    {Symptom::LoopsLater, Cause::HashTree, 10},
    {Symptom::WarnsAndStarts, Cause::StaleDigest, 15},
    {Symptom::WarnsAndStarts, Cause::HashTree, 5},
    {Symptom::BlackScreen, Cause::KernelPacking, 15},
    {Symptom::BlackScreen, Cause::OtherBoard, 15},
    {Symptom::BlackScreen, Cause::OtherVariant, 15},
    {Symptom::BlackScreen, Cause::WrongImage, 10},
    {Symptom::BlackScreen, Cause::FirstProgram, 5},
    {Symptom::RecoveryInstead, Cause::MountTableLacks, 10},
    {Symptom::RecoveryInstead, Cause::MountTableForm, 10},
    {Symptom::RecoveryInstead, Cause::SkipWord, 10},
    {Symptom::RecoveryInstead, Cause::SkipList, 10},
    {Symptom::RecoveryInstead, Cause::DataKeys, 10},
    {Symptom::RecoveryInstead, Cause::PatchLevel, 10},
    {Symptom::NoRoot, Cause::WrongSlot, 15},
    {Symptom::NoRoot, Cause::OtherRamdisk, 15},
    {Symptom::NoRoot, Cause::SkipWord, 15},
    {Symptom::NoRoot, Cause::RecoveryRestored, 15},
    {Symptom::NoRoot, Cause::HalfWritten, 10},
    {Symptom::NoRoot, Cause::SlotMarked, 10},
    {Symptom::PartsDead, Cause::ModuleGeneration, 15},
    {Symptom::PartsDead, Cause::OtherBoard, 15},
    {Symptom::PartsDead, Cause::OtherVariant, 15},
    {Symptom::PartsDead, Cause::OtherBuild, 10},
    {Symptom::AsksToErase, Cause::PatchLevel, 15},
    {Symptom::AsksToErase, Cause::DataKeys, 15},
    {Symptom::RefusesWrite, Cause::LockedPhone, 15},
    {Symptom::RefusesWrite, Cause::SuperFull, 15},
    {Symptom::RefusesWrite, Cause::HalfUpdate, 10},
    {Symptom::RefusesWrite, Cause::OtherVariant, 10},
    {Symptom::RefusesWrite, Cause::HalfWritten, 5},
    {Symptom::RefusesUpdate, Cause::ChangedForUpdate, 20},
    {Symptom::RefusesUpdate, Cause::HashTree, 10},
    {Symptom::RefusesUpdate, Cause::OtherVariant, 10},
    {Symptom::RefusesUpdate, Cause::HalfUpdate, 10},
};

}  // namespace

EvidenceList evidence_of_logs(const Observed& observed) {
  EvidenceList out;
  for (const SeenSign& one : observed.signs)
    for (const LogRow& row : kLogRows)
      if (row.sign == one.sign)
        out.push_back({row.cause, row.weight,
                       fmt::format("a log says: {}", log_sign_about(one.sign)), one.at.text()});
  return out;
}

EvidenceList evidence_of_symptom(Symptom symptom) {
  EvidenceList out;
  for (const SymptomFits& row : kSymptoms)
    if (row.symptom == symptom)
      out.push_back({row.cause, row.weight,
                     fmt::format("it goes with the symptom ({})", symptom_word(symptom)), "",
                     true});
  return out;
}

}  // namespace wexlo
