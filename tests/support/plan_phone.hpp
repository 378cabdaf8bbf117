#pragma once
/// Plans played on the simulated phone, with doctest's eyes on every step. What a partition holds
/// is told by a word at its start: the digest that a plan names for the file.

#include "flash/simulated_hands.hpp"
#include "support/check.hpp"

namespace wexlo::test {

/// A word at the start, zeros behind it.
inline SourcePtr word_source(const std::string& word, std::uint64_t size) {
  const Blob text(to_bytes(word));
  std::vector<Piece> pieces{
      {open_memory(text, word), 0, std::min<std::uint64_t>(size, text.size())}};
  if (size > text.size()) pieces.push_back({nullptr, 0, size - text.size()});
  return value_of(open_joined(std::move(pieces), word));
}

/// One piece of an image, as phones get them: a word in its own block.
inline SourcePtr sparse_word(const std::string& word, unsigned piece) {
  constexpr std::uint32_t kBlock = 4096, kBlocks = 4;
  Bytes out;
  LeWriter writer(out);
  const auto chunk = [&](std::uint16_t type, std::uint32_t blocks, std::uint32_t data) {
    writer.put<std::uint16_t>(type);
    writer.put<std::uint16_t>(0);
    writer.put<std::uint32_t>(blocks);
    writer.put<std::uint32_t>(12 + data);
  };
  writer.put<std::uint32_t>(0xED26FF3A);
  writer.put<std::uint32_t>(1);
  writer.put<std::uint16_t>(28);
  writer.put<std::uint16_t>(12);
  for (const std::uint32_t one : {kBlock, kBlocks, piece > 1 ? 3u : 2u, 0u})
    writer.put<std::uint32_t>(one);
  if (piece > 1) chunk(0xCAC3, piece - 1, 0);
  chunk(0xCAC1, 1, kBlock);
  writer.text(word, kBlock);
  chunk(0xCAC3, kBlocks - piece, 0);
  return open_memory(Blob(std::move(out)), word);
}

/// The words that a source holds, of its first blocks: "one+two".
inline std::string words_in(const Source& source) {
  std::string out;
  for (std::uint64_t at = 0; at < std::min<std::uint64_t>(source.size(), 4 * 4096); at += 4096) {
    const Bytes head = value_of(read_some(source, at, 64));
    const std::string word(until_nul(head));
    if (!word.empty()) out += (out.empty() ? "" : "+") + word;
  }
  return out;
}

inline void put_word(SimulatedPhone& phone, const std::string& name, const std::string& word) {
  if (const auto size = phone.size_of(name)) {
    const auto done = phone.replace(name, word_source(word, *size));
    REQUIRE_MESSAGE(done, describe(done.error()));
  }
}

/// A phone as tests write it down.
struct WordPhone {
  PhoneState state;
  std::map<std::string, std::string> partitions;  ///< the word that each holds
  std::map<std::string, std::uint64_t> sizes;     ///< of partitions outside of super, bytes
  std::map<std::string, std::uint64_t> logical;   ///< sizes of logical partitions, bytes
  std::uint64_t super = 0;                        ///< bytes that they may take together

  [[nodiscard]] std::unique_ptr<SimulatedPhone> made(Faults faults = {}) const {
    auto store = std::make_unique<MemoryStore>();
    for (const auto& [name, size] : sizes)
      REQUIRE(store->add(name, size));
    if (super > 0) {
      constexpr std::uint64_t kTables = std::uint64_t{1} << 20;
      SuperEdit tables = SuperEdit::make(kTables + super, {});
      for (const auto& [name, size] : logical) {
        const auto created = tables.create(name, "", size);
        REQUIRE_MESSAGE(created, describe(created.error()));
      }
      REQUIRE(store->add("super", kTables + super));
      const Blob head(tables.head());
      REQUIRE(store->put("super", {{0, head.size(), open_memory(head, "super"), 0}}));
    }
    auto phone = std::make_unique<SimulatedPhone>(state, std::move(store), std::move(faults));
    for (const auto& [name, word] : partitions)
      put_word(*phone, name, word);
    phone->state.written.clear();
    return phone;
  }

  /// What has become of it.
  void take(SimulatedPhone& phone) {
    state = phone.state;
    partitions.clear();
    logical.clear();
    for (const std::string& name : phone.partitions()) {
      if (name == "super") continue;
      if (phone.is_logical(name)) logical[name] = *phone.size_of(name);
      if (const std::string word = words_in(*value_of(phone.content(name))); !word.empty())
        partitions[name] = word;
    }
  }
};

/// Files of a kit, by what its plan says of them.
inline OpenKitFile files_of_plan(const std::vector<Step>& steps) {
  std::map<std::string, SourcePtr> files;
  for (const Step& step : steps) {
    const KitFile* file = file_of(step.act);
    if (file == nullptr || file->file.empty()) continue;
    const auto* write = step.get<act::Write>();
    files[file->file] = write != nullptr && write->piece > 0
                            ? sparse_word(file->sha256, write->piece)
                            : word_source(file->sha256, std::max<std::uint64_t>(file->size, 1));
  }
  return [files](const std::string& name) -> Result<SourcePtr> {
    const auto at = files.find(name);
    return at == files.end() ? nullptr : at->second;
  };
}

class PlanPhone : public WordPhone {
 public:
  std::set<std::string> person;  ///< ids of steps that were done by hand
  /// What else a step stands for: a package that is handed over, or installed.
  std::function<void(SimulatedPhone&, const Step&)> outside;

  /// Every expectation has to hold.
  void play(const std::vector<Step>& steps) { CHECK(stopped_by(steps) == ""); }

  /// As far as the phone is what the plan expects. @return the expectation that does not hold;
  /// empty: all was done
  std::string stopped_by(const std::vector<Step>& steps) {
    for (const Step& step : steps)
      if (!says_all(step)) FAIL_CHECK("a step leaves something out: ", step.id);
    const auto phone = made();
    SimulatedHands hands(*phone, {.kit = {},
                                  .stock = {},
                                  .package = {},
                                  .instead = [&](SimulatedPhone& at, const Step& step) -> Status {
                                    if (outside) outside(at, step);
                                    return {};
                                  }});
    const Played played = wexlo::play(steps, *phone, hands, files_of_plan(steps));
    take(*phone);
    person.insert(hands.done.begin(), hands.done.end());
    if (played.done()) {
      CHECK(played.steps.size() == steps.size());
      return {};
    }
    const Step& last = steps[played.steps.size() - 1];
    CAPTURE(last.id);
    CAPTURE(last.about);
    REQUIRE_MESSAGE(last.is<act::Expect>(), describe(*played.error));
    return last.id;
  }

 private:
  /// What a person and a program need to know of a step. Thousands of plans are asked: one look
  /// each.
  static bool says_all(const Step& step) {
    const bool prose = !step.before.empty() && !step.success.empty() && step.usual_seconds > 0;
    const auto* write = step.get<act::Write>();
    const auto* hand_over = step.get<act::HandOver>();
    return prose && (!step.is<act::Wipe>() || step.risk.data_loss) &&
           (write == nullptr || (!write->file.file.empty() && !write->file.sha256.empty())) &&
           (hand_over == nullptr || !hand_over->settings.empty());
  }
};

}  // namespace wexlo::test
