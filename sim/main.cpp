/// wexlo-phone: a simulated phone that answers its bootloader's protocol over TCP and UDP.

#include <unistd.h>

#include <fmt/format.h>
#include <CLI/CLI.hpp>

#include <csignal>
#include <cstdio>
#include <iostream>

#include "base/output.hpp"
#include "demo/gnomon.hpp"
#include "demo/phones.hpp"
#include "firmware/formats.hpp"
#include "flash/bench_phone.hpp"
#include "hands.hpp"
#include "phone/simulated/phone_server.hpp"
#include "phone/simulated/power_on.hpp"
#include "phone/simulated/start_shows.hpp"

namespace {

using namespace wexlo;
namespace fs = std::filesystem;

constexpr std::uint64_t kMaxState = 4u << 20;
constexpr const char* kStateFile = "phone.toml";
constexpr const char* kObservedFile = "observed.txt";

struct Arguments {
  std::string folder, model, firmware;
  std::vector<std::string> listen, faults;
  bool no_keys = false;
};

void say(const std::string& text) {
  std::fputs(text.c_str(), stdout);
  std::fflush(stdout);
}

/// `tcp:PORT` or `udp:PORT`, on this machine alone.
Result<PhoneAddress> listen_address(const std::string& text) {
  const bool udp = text.starts_with("udp:");
  if (!udp && !text.starts_with("tcp:"))
    return fail({.code = ErrorCode::Usage,
                 .message = "--listen does not read",
                 .expected = "tcp:PORT or udp:PORT",
                 .found = text});
  const std::string port = text.substr(4);
  const bool number = !port.empty() && port.find_first_not_of("0123456789") == port.npos &&
                      port.size() <= 5 && std::stoul(port) <= 0xffff;
  if (!number)
    return fail({.code = ErrorCode::Usage,
                 .message = "--listen does not read",
                 .expected = "a port, 0 to 65535",
                 .found = text});
  return PhoneAddress{.wire = udp ? Wire::Udp : Wire::Tcp,
                      .host = "127.0.0.1",
                      .port = static_cast<std::uint16_t>(std::stoul(port)),
                      .serial = {}};
}

/// One of the invented phones, or what a sheet tells; filled from its firmware.
class Model {
 public:
  explicit Model(const Arguments& options) : options_(options) {}

  Result<PhoneState> fill(const fs::path& folder) {
    fs::path firmware = options_.firmware;
    std::optional<Sheet> sheet;
    const fs::path made = folder / "firmware.tmp";
    if (options_.model.empty() || is_invented(options_.model)) {
      const std::string name = options_.model.empty() ? "gnomon" : options_.model;
      const auto files = demo::bench_files();
      if (const auto at = files.find(name + ".toml"); at != files.end()) {
        WEXLO_TRY(sheet, parse_sheet(at->second, at->first));
      }
      if (firmware.empty()) {
        WEXLO_CHECK(write(name, made));
        firmware = made;
      }
    } else {
      WEXLO_TRY(sheet, read_sheet(options_.model));
    }
    FirmwarePtr opened;
    if (!firmware.empty()) {
      WEXLO_TRY(opened, open_firmware(firmware.string(), {}));
    }
    FolderStore store(folder);
    auto state = fill_bench_phone(store, sheet ? &*sheet : nullptr, opened.get(), {});
    opened.reset();
    std::error_code ignored;
    fs::remove(made, ignored);
    return state;
  }

 private:
  static bool is_invented(const std::string& name) {
    return name == "gnomon" || name == "vernier" || name == "plumbline";
  }
  static Status write(const std::string& name, const fs::path& file) {
    using demo::FirmwareSize;
    if (name == "vernier") return demo::write_vernier(file, FirmwareSize::Usual, {});
    if (name == "plumbline") return demo::write_plumbline(file, FirmwareSize::Usual, {});
    return demo::write_gnomon(file, {}, {});
  }
  const Arguments& options_;
};

class PhoneProgram {
 public:
  explicit PhoneProgram(const Arguments& options) : options_(options), folder_(options.folder) {}

  Status run() {
    WEXLO_CHECK(open());
    phone_->on_start = [this](const SourcePtr& once) { started(once); };
    server_ = std::make_unique<PhoneServer>(
        *phone_, PhoneServer::Habits{!options_.no_keys, [this] { (void)save(); }});
    for (const std::string& one : options_.listen) {
      WEXLO_TRY(const PhoneAddress wanted, listen_address(one));
      WEXLO_TRY(const PhoneAddress address, server_->listen(wanted));
      say(address_text(address) + "\n");
    }
    hear_hands();
    return {};
  }

 private:
  Status open() {
    std::error_code error;
    fs::create_directories(folder_, error);
    if (error) return fail(io_error(error.value(), "cannot make the folder", folder_.string()));
    std::vector<Fault> faults;
    for (const std::string& one : options_.faults) {
      WEXLO_TRY(Fault fault, parse_fault(one));
      faults.push_back(std::move(fault));
    }
    PhoneState state;
    const bool fresh = !fs::exists(folder_ / kStateFile, error);
    if (fresh) {
      WEXLO_TRY(state, Model(options_).fill(folder_));
      state.mode = PhoneMode::Bootloader;
    } else {
      WEXLO_TRY(const SourcePtr file, open_file(folder_ / kStateFile));
      WEXLO_TRY(const Blob text, read_all(*file, kMaxState));
      WEXLO_TRY(state, parse_phone(as_text(text.view()), file->name()));
    }
    phone_ = std::make_unique<SimulatedPhone>(
        std::move(state), std::make_unique<FolderStore>(folder_), Faults(std::move(faults)));
    if (fresh) {
      WEXLO_TRY(const StockStatePtr stock, StockState::of(*phone_));
      take_in_hand(*phone_, *stock);
    }
    return save();
  }

  Status save() {
    return write_file(folder_ / kStateFile, as_view(format_phone(phone_->state)),
                      Overwrite::Replace, Flush::Leave);
  }

  void started(const SourcePtr& once) {
    const auto done = power_on(*phone_, nullptr, once);
    if (!done) {
      say(fmt::format("start: {}\n", describe(done.error())));
      return;
    }
    for (const std::string& line : done->log)
      say("  " + line + "\n");
    say(fmt::format("start: {}: {} add-on: {}\n", start_word(done->verdict), done->reason,
                    addon_word(done->addon)));
    if (done->symptom)
      say(fmt::format("seen: {}: {}\n", symptom_word(*done->symptom),
                      symptom_about(*done->symptom)));
    // What a technician could save of it, for `wexlo confirm` and `wexlo diagnose`.
    (void)write_file(folder_ / kObservedFile, as_view(saved_text(*done)), Overwrite::Replace,
                     Flush::Leave);
    (void)save();
  }

  void hear_hands() {
    for (std::string line; std::getline(std::cin, line);) {
      if (line == "quit") return;
      if (line == "help") {
        say(sim::hands_help());
        continue;
      }
      const std::lock_guard lock(server_->turn);
      const auto done = sim::do_by_hand(*phone_, line);
      say(done ? *done + "\n" : describe(done.error()) + "\n");
      (void)save();
    }
    // Without hands it stays for its hosts.
    if (!options_.listen.empty())
      for (;;)
        ::pause();
  }

  const Arguments& options_;
  fs::path folder_;
  std::unique_ptr<SimulatedPhone> phone_;
  std::unique_ptr<PhoneServer> server_;
};

std::string symptom_help() {
  std::string out;
  for (const SymptomRow& row : symptom_rows())
    out += fmt::format("  {:<22}{}\n", row.word, row.about);
  return out;
}

int run_program(int argc, char** argv) {
  Arguments options;
  CLI::App app{"A simulated phone: partitions are files in DIR, phone.toml is its state."};
  app.add_option("DIR", options.folder, "The phone's folder; made where it is not there")
      ->required();
  app.add_option("--listen", options.listen, "tcp:PORT or udp:PORT, on this machine; 0: any port");
  app.add_option("--model", options.model,
                 "gnomon, vernier, plumbline, or a sheet: which phone a new folder is");
  app.add_option("--firmware", options.firmware, "What a new phone's partitions hold");
  app.add_option("--fault", options.faults, "Something that goes wrong; below");
  app.add_flag("--no-keys", options.no_keys,
               "Nobody holds the keys: a host that calls while the system runs finds no phone");
  app.footer("Faults:\n" + fault_help() + "\nSymptoms, of start=SYMPTOM:\n" + symptom_help() +
             "\nLines on standard input are what a person does by hand:\n" + sim::hands_help());
  CLI11_PARSE(app, argc, argv);
  const auto done = PhoneProgram(options).run();
  if (done) return 0;
  std::fprintf(stderr, "wexlo-phone: %s\n", describe(done.error()).c_str());
  switch (done.error().code) {
    case ErrorCode::Usage: return 2;
    case ErrorCode::Io:
    case ErrorCode::NotFound:
    case ErrorCode::Permission:
    case ErrorCode::NoSpace: return 5;
    default: return 3;
  }
}

}  // namespace

int main(int argc, char** argv) {
  std::signal(SIGPIPE, SIG_IGN);
  try {
    return run_program(argc, argv);
  } catch (const std::exception& trouble) {
    std::fprintf(stderr, "wexlo-phone: %s\n", trouble.what());
    return 5;
  }
}
