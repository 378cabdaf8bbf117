/// The simulated phone's state and tables, the log of a flash, and either end of the bootloader's
/// protocol.

#include "firmware/super_edit.hpp"
#include "flash/bench_phone.hpp"
#include "flash/flash_log.hpp"
#include "phone/fastboot/command.hpp"
#include "phone/simulated/bootloader.hpp"
#include "support/containers.hpp"
#include "target.hpp"

namespace wexlo::fuzz {
namespace {

/// The other end says what the input has, a message a line; a data phase takes what comes next.
class Script final : public Link {
 public:
  explicit Script(View input) : left_(as_text(input)) {}
  Status send(View) override { return {}; }
  Result<Bytes> receive() override {
    if (left_.empty()) return fail({.code = ErrorCode::LinkLost, .message = "it hung up"});
    const std::size_t end = std::min(left_.find('\n'), left_.size());
    const Bytes out = to_bytes(left_.substr(0, end));
    left_.remove_prefix(std::min(end + 1, left_.size()));
    return out;
  }
  Status send_data(View, bool) override { return {}; }
  Status receive_data(MutableView out) override {
    const std::size_t size = std::min(out.size(), left_.size());
    std::ranges::copy(View(to_bytes(left_.substr(0, size))), out.begin());
    left_.remove_prefix(size);
    if (size == out.size()) return {};
    return fail({.code = ErrorCode::LinkLost, .message = "it hung up"});
  }
  void bear_silence(milliseconds) override {}

 private:
  std::string_view left_;
};

}  // namespace

void phone_state(View input) {
  const auto read = parse_phone(as_text(input), "phone.toml");
  if (!read) return;
  const std::string written = format_phone(*read);
  const auto again = parse_phone(written, "again");
  must(again.has_value());
  must(format_phone(*again) == written);
}

std::vector<std::string> phone_state_seeds() {
  PhoneState state;
  state.product = "gnomon";
  state.slots = {{"a", {}}, {"b", {.tries = 2, .unbootable = true}}};
  state.rollback = {{0, 3}};
  state.variables = {{"anti", "4"}};
  state.critical = {"vbmeta"};
  return {format_phone(state)};
}

/// Tables that are read can be changed and written, and are then what was asked for.
void super_tables(View input) {
  const SourcePtr source = open_memory(Blob(to_bytes(as_text(input))), "super");
  auto read = SuperEdit::read(*source);
  if (!read) return;
  (void)read->create("made", "", 4096);
  if (!read->partitions().empty()) {
    const std::string first = read->partitions().front().name;
    (void)read->resize(first, 8192);
    (void)read->drop(first);
    must(read->find(first) == nullptr);
  }
  const SourcePtr head = open_memory(Blob(read->head()), "super");
  const auto again = SuperEdit::read(*head);
  must(!again || again->partitions().size() == read->partitions().size());
}

std::vector<std::string> super_tables_seeds() {
  SuperEdit tables = SuperEdit::make(8u << 20, {{"main", 4u << 20}});
  must(tables.create("system_a", "main", 1u << 20).has_value());
  must(tables.create("product_a", "", 4096).has_value());
  return {std::string(as_text(tables.head()))};
}

void flash_log(View input) {
  (void)parse_flash_log(as_text(input), "flash-log.jsonl");
}

std::vector<std::string> flash_log_seeds() {
  return {
      "{\"time\":\"t\",\"event\":\"begin\",\"direction\":\"forward\",\"address\":\"\","
      "\"serial\":\"S\",\"product\":\"gnomon\",\"plan_sha256\":\"x\"}\n"
      "{\"time\":\"t\",\"event\":\"slot\",\"slot\":\"a\"}\n"
      "{\"time\":\"t\",\"event\":\"step-begins\",\"id\":\"one\"}\n"
      "{\"time\":\"t\",\"event\":\"phone\",\"text\":\"erasing\"}\n"
      "{\"time\":\"t\",\"event\":\"step\",\"id\":\"one\",\"outcome\":\"confirmed\",\"detail\":\"\"}"
      "\n"
      "{\"time\":\"t\",\"event\":\"end\",\"state\":\"done\",\"reason\":\"\"}\n"};
}

/// Whatever a host says, the phone stays one that can be told of.
void bootloader(View input) {
  constexpr std::uint64_t kSize = 64u << 10;
  auto store = std::make_unique<MemoryStore>();
  must(store->add("boot_a", kSize).has_value());
  must(store->add("userdata", kSize).has_value());
  must(add_super(*store, 8u << 20, {}, {{.name = "system_a", .size = kSize, .group = {}}})
           .has_value());
  PhoneState state;
  state.mode = PhoneMode::Bootloader;
  state.download_limit = 1u << 20;
  SimulatedPhone phone(state, std::move(store));
  std::mutex turn;
  Script host(input);
  // It hangs up where the phone goes into another mode: the next host goes on.
  for (int hosts = 0; hosts < 4; ++hosts)
    serve_bootloader(host, phone, turn, {});
  must(parse_phone(format_phone(phone.state), "phone.toml").has_value());
}

std::vector<std::string> bootloader_seeds() {
  return {
      "getvar:all\ndownload:00000004\nDATAflash:boot_a\nset_active:b\nerase:userdata\nreboot",
      "reboot-fastboot\ncreate-logical-partition:x_a:4096\nresize-logical-partition:x_a:0x2000\n"
      "delete-logical-partition:system_a\nfetch:boot_a:0:16\nsnapshot-update:cancel\n",
      "flashing unlock\nflashing lock_critical\ngetvar:partition-size:boot_a\nupload\nboot\n"};
}

void reply(View input) {
  Script phone(input);
  const std::size_t most = input.size() + 1;
  std::size_t heard = 0;
  (void)order_phone(phone, "erase:userdata", [&](const std::string&) { ++heard; });
  must(heard <= most);
  (void)phone_variables(phone, {});
  std::uint64_t taken = 0;
  (void)fetch(phone, "fetch:boot_a", 4096,
              [&](View piece) -> Status {
                taken += piece.size();
                return {};
              },
              {});
  must(taken <= 4096);
}

std::vector<std::string> reply_seeds() {
  return {"INFOone\nTEXTtwo\nOKAY\nINFOproduct: gnomon\nOKAY\nDATA00000004\nabcdOKAY\n",
          "FAILno\nFAILunknown\nOKAYgnomon\nFAIL\nDATA00001001\nx"};
}

}  // namespace wexlo::fuzz
