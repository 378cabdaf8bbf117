#include "check/check.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <charconv>
#include <filesystem>

#include "base/output.hpp"
#include "chain.hpp"
#include "check_text.hpp"
#include "commands.hpp"
#include "job/remake.hpp"
#include "kit/folder/kit.hpp"
#include "options.hpp"
#include "reply.hpp"
#include "text/text.hpp"
#include "verified/key.hpp"

namespace wexlo::cli {
namespace {

Result<std::uint64_t> number_of(std::string_view text, const std::string& whole,
                                std::uint64_t most) {
  std::uint64_t out = 0;
  const auto [end, bad] = std::from_chars(text.data(), text.data() + text.size(), out);
  if (bad == std::errc() && end == text.data() + text.size() && out <= most) return out;
  return fail({.code = ErrorCode::Usage,
               .message = "--rollback needs a location and the index stored there",
               .expected = "LOC=N with LOC 0 to 31",
               .found = whole,
               .hint = "For example --rollback 0=1788566400"});
}

Result<CheckOptions> core_options(const CheckArguments& options) {
  CheckOptions out{.against = options.against,
                   .slot = options.slot,
                   .trees = !options.no_trees,
                   .whole = options.whole};
  if (!options.key.empty()) {
    WEXLO_TRY(out.key, verified::load_public_key(options.key));
  }
  if (!options.lock_state.empty()) out.locked = options.lock_state == "locked";
  for (const std::string& one : options.rollback) {
    const std::size_t equals = std::min(one.find('='), one.size());
    WEXLO_TRY(const auto location, number_of(std::string_view(one).substr(0, equals), one, 31));
    const auto index = std::string_view(one).substr(std::min(equals + 1, one.size()));
    WEXLO_TRY(const auto stored, number_of(index, one, ~std::uint64_t{0}));
    out.rollback[static_cast<std::uint32_t>(location)] = stored;
  }
  return out;
}

Json against_json(const AgainstStock& one) {
  Json changes = Json::array();
  for (const Difference& d : one.changes)
    changes.push_back({{"area", area_name(d.area)},
                       {"what", difference_name(d.kind)},
                       {"where", d.where},
                       {"before", d.before},
                       {"after", d.after},
                       {"lines", d.lines}});
  return {{"partition", one.partition},     {"verdict", against_name(one.verdict)},
          {"build", build_name(one.build)}, {"sentence", one.sentence},
          {"evidence", one.evidence},       {"changes", changes},
          {"lowered", one.lowered},         {"unexplained", one.unexplained}};
}

Json result_json(const Checked& checked) {
  Json partitions = Json::array(), against = Json::array();
  for (const CheckedPartition& one : checked.partitions)
    partitions.push_back({{"name", one.name},
                          {"status", one.status},
                          {"size", one.size},
                          {"detail", one.detail.empty() ? Json() : Json(one.detail)}});
  for (const AgainstStock& one : checked.against)
    against.push_back(against_json(one));
  const verified::Walk& walk = checked.walk;
  return {{"kind", checked_name(checked.kind)},
          {"locked", verified::outlook_name(checked.locked.outlook)},
          {"unlocked", verified::outlook_name(checked.unlocked.outlook)},
          {"locked_reason", checked.locked.sentence},
          {"unlocked_reason", checked.unlocked.sentence},
          {"taken_unlocked", checked.taken_unlocked},
          {"startable", checked.startable},
          {"slot", checked.slot.empty() ? Json() : Json(checked.slot)},
          {"root_key", checked.root == RootKey::Given   ? "given"
                       : checked.root == RootKey::Stock ? "stock"
                                                        : "own"},
          {"partitions", partitions},
          {"chain", chain_json(walk)},
          {"vbmeta_digest", walk.digest.empty() ? Json()
                                                : Json{{"value", walk.digest},
                                                       {"algorithm", walk.digest_algorithm},
                                                       {"size", walk.digest_size}}},
          {"against", against}};
}

Json remade_json(const RemadeKit& remade) {
  Json differs = Json::array();
  for (const RemadeFile& one : remade.differs) {
    Json row = {{"file", one.file}, {"in_kit", !one.missing}};
    const FileDifference* what = one.difference ? &*one.difference : nullptr;
    row["made_again"] = what != nullptr || one.missing;
    row["offset"] = what != nullptr ? Json(what->offset) : Json();
    row["bytes"] = what != nullptr ? Json(what->differing) : Json();
    row["part"] = what != nullptr && !what->part.empty() ? Json(what->part) : Json();
    row["kit"] = what != nullptr ? Json(what->a) : Json();
    row["again"] = what != nullptr ? Json(what->b) : Json();
    differs.push_back(std::move(row));
  }
  return {{"outcome", remade_word(remade.outcome)},
          {"made_by", remade.made_by.empty() ? Json() : Json(remade.made_by)},
          {"this_version", remade.this_one},
          {"files", remade.files},
          {"bytes", remade.bytes},
          {"differs", differs}};
}

/// Makes the kit again beside what else is checked.
Status add_remade(const CheckArguments& options, Reply& reply, const Session& session) {
  WEXLO_TRY(const RemadeKit remade, remake(options.paths.front(),
                                           {.firmware = options.remake,
                                            .base = options.base,
                                            .allow_programs = options.allow_programs,
                                            .key = options.key},
                                           session.context));
  reply.result["remade"] = remade_json(remade);
  reply.text += remade_text(remade, session) + "\n";
  std::ranges::copy(remade.findings, std::back_inserter(reply.findings));
  return {};
}

Status check_remake(const CheckArguments& options) {
  const std::string_view alone = !options.base.empty()    ? "--base"
                                 : options.allow_programs ? "--allow-programs"
                                                          : "";
  if (options.remake.empty() && !alone.empty())
    return fail({.code = ErrorCode::Usage,
                 .message = fmt::format("{} says how a kit is made again", alone),
                 .expected = fmt::format("--remake FIRMWARE beside {}", alone),
                 .found = fmt::format("{} alone", alone),
                 .hint = fmt::format("Add --remake FIRMWARE, or leave {} out.", alone)});
  if (options.remake.empty() || (options.paths.size() == 1 && is_kit(options.paths.front())))
    return {};
  return fail({.code = ErrorCode::Usage,
               .message = "--remake makes one kit again",
               .file = options.paths.front(),
               .expected = "the folder of one kit",
               .found = options.paths.size() == 1 ? "no kit"
                                                  : fmt::format("{} paths", options.paths.size()),
               .hint = "wexlo check KIT --remake FIRMWARE"});
}

/// Writes repaired copies, each complete or not at all.
Status repair(const CheckArguments& options, const CheckOptions& core, Reply& reply,
              const Session& session) {
  namespace fs = std::filesystem;
  constexpr std::uint64_t kPiece = 4u << 20;
  WEXLO_TRY(const auto repaired, repair_images(options.paths, core, session.context));
  const fs::path folder = options.repair;
  Json rows = Json::array();
  for (const RepairedImage& one : repaired) {
    const fs::path target = folder / (one.partition + ".img");
    WEXLO_CHECK(check_not_input(target, options.paths));
    WEXLO_TRY(OutputFile file,
              OutputFile::create(target, options.force ? Overwrite::Replace : Overwrite::Refuse));
    WEXLO_CHECK(file.resize(one.source->size()));
    for (std::uint64_t at = 0; at < one.source->size(); at += kPiece) {
      WEXLO_CHECK(check_stop(session.context));
      WEXLO_TRY(const Bytes piece, read_some(*one.source, at, kPiece));
      WEXLO_CHECK(file.write_at(at, piece));
    }
    for (const verified::Repaired& block : one.blocks)
      WEXLO_CHECK(file.write_at(block.offset, block.bytes));
    WEXLO_CHECK(file.commit());
    rows.push_back({{"partition", one.partition},
                    {"file", file.target().string()},
                    {"blocks", one.blocks.size()}});
    reply.text += fmt::format("  repaired {}: {} block{} given again, written to {}\n",
                              printable(one.partition), one.blocks.size(),
                              one.blocks.size() == 1 ? "" : "s", printable(file.target().string()));
  }
  reply.result["repaired"] = rows;
  return {};
}

Result<Reply> run_check(const CheckArguments& options, const Session& session) {
  WEXLO_CHECK(check_remake(options));
  WEXLO_TRY(const CheckOptions core, core_options(options));
  WEXLO_TRY(const Checked checked, check_paths(options.paths, core, session.context));
  Reply reply;
  reply.result = result_json(checked);
  reply.text = session.paint.heading(printable(fmt::format("{}", fmt::join(options.paths, " ")))) +
               "\n" + check_text(checked, options, session);
  reply.findings = checked.findings;
  if (!options.remake.empty()) WEXLO_CHECK(add_remade(options, reply, session));
  for (const Finding& one : reply.findings)
    if (one.level == Level::Problem) reply.well = false;
  if (!options.repair.empty()) WEXLO_CHECK(repair(options, core, reply, session));
  reply.ending = check_verdict(checked, reply.findings, options, session);
  if (!reply.well) reply.reasons = reply.ending;
  return reply;
}

}  // namespace

void add_check(Commands& commands, Session& session, int& exit_code) {
  auto options = std::make_shared<CheckArguments>();
  Command(commands, "check")
      .operand("PATH", options->paths, "Images, a folder of them, firmware, or a kit")
      .option("--against", "FIRMWARE", options->against,
              "Their stock firmware: what was changed, and the rest of the chain")
      .option("--remake", "FIRMWARE", options->remake,
              "Make the kit again from this firmware, and compare every byte")
      .option("--base", "DIR|FIRMWARE", options->base,
              "With --remake: the older build that an incremental package starts from")
      .flag("--allow-programs", options->allow_programs,
            "With --remake: the kit's recipes may run programs that they brought along")
      .option("--key", "PUBKEY", options->key,
              "The root key that the phone trusts (PEM, or a public key blob)")
      .choice("--lock-state", {"locked", "unlocked"}, options->lock_state,
              "The phone's state: what concerns only the other one weighs less")
      .option("--rollback", "LOC=N", options->rollback,
              "A rollback index that the phone has stored; may be repeated")
      .choice("--slot", {"a", "b"}, options->slot, "The slot to judge, where both are here")
      .flag("--whole", options->whole,
            "The set has to be complete: what is not here is missing, not the phone's own")
      .flag("--no-trees", options->no_trees, "Leave hash trees of large partitions out")
      .option("--repair", "DIR", options->repair,
              "Give single bad blocks again by the error correction, into copies there")
      .flag("--force", options->force, "Replace repaired copies that are there already")
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "check", run_check(*options, session));
      });
}

}  // namespace wexlo::cli
