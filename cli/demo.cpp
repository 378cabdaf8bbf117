#include <fmt/format.h>
#include <fmt/ranges.h>

#include <sstream>

#include "base/output.hpp"
#include "base/source.hpp"
#include "commands.hpp"
#include "demo/gnomon.hpp"
#include "demo/phones.hpp"
#include "demo/tide.hpp"
#include "firmware/formats.hpp"
#include "flash/served_phone.hpp"
#include "kit/facts/sheet.hpp"
#include "options.hpp"
#include "phone/fastboot/link.hpp"
#include "phone/simulated/start_shows.hpp"
#include "program.hpp"
#include "reply.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace fs = std::filesystem;
namespace {

constexpr std::string_view kMarker = "about-this-demo.txt";

struct DemoArguments {
  std::string folder = "wexlo-demo";
  bool force = false, all = false;
};

/// The job on the invented phone, step by step, with the very commands a user would type.
class Demo {
 public:
  Demo(const DemoArguments& options, Session& session)
      : folder_(options.folder), all_(options.all), session_(session) {}

  /// All of it, or nothing: what was made so far goes when a step fails, or is stopped.
  Result<Reply> run(Overwrite overwrite) {
    auto made = make(overwrite);
    if (!made && began_) remove_tree(folder_);
    return made;
  }

 private:
  Result<Reply> make(Overwrite overwrite) {
    WEXLO_CHECK(make_folder(overwrite));
    began_ = true;
    WEXLO_CHECK(make_inputs());
    WEXLO_CHECK(job());
    if (all_) WEXLO_CHECK(others());
    tell_end();
    reply_.result["folder"] = folder_.string();
    reply_.result["steps"] = std::move(steps_);
    return std::move(reply_);
  }

  /// What was done, and what to look at.
  void tell_end() {
    if (session_.globals.json || session_.globals.quiet) return;
    say("Done: an image was taken out of its package, patched, proven, undone, and made into a "
        "kit. "
        "What to look at now:");
    struct Look {
      std::string line, about;
    };
    std::vector<Look> looks{
        {"less " + path("kit/plan.txt"), "the steps for the bench, and the way back"},
        {"xdg-open " + path("kit/report.html"), "the report that stays with the phone"},
        {"wexlo inspect " + path("init_boot-patched.img"), "whose patch an image carries"},
        {"wexlo draw " + path("images/init_boot.img") + " " + path("init_boot-patched.img") +
             " -o changes.svg",
         "what was changed, to scale"},
        {"wexlo", "the tasks of a bench, with your own firmware"},
    };
    for (const Look& one : looks)
      tell(fmt::format("  {}\n      {}\n", session_.paint.good(one.line), one.about));
    tell(all_ ? "" : "wexlo demo --all has two older phones, an update and a tray of phones.\n");
  }

  Status make_folder(Overwrite overwrite) {
    // Made whole under another name first, so that a folder that is not the demo's is not touched.
    WEXLO_TRY(OutputFolder folder, OutputFolder::create(folder_, overwrite, std::string(kMarker)));
    const std::string about =
        "Made by `wexlo demo`: the invented phone gnomon and the job on it.\n"
        "The key that signed it protects nothing. Remove the folder at will.\n";
    WEXLO_CHECK(write_file(folder.path() / kMarker, as_view(about), Overwrite::Refuse));
    return folder.commit();
  }

  Status make_inputs() {
    say("The invented phone: Korvale Tarn 3, codename gnomon. Two slots, its first ramdisk in "
        "init_boot. Its firmware and an add-on are being made.");
    WEXLO_CHECK(demo::write_gnomon(firmware(), {}, session_.context));
    const demo::AddOn add_on = demo::add_on();
    if (!add_on.programs.contains("arm64")) {
      // The user says so, as one would who knows better than the image.
      processor_words_ = {"--set", fmt::format("arch={}", demo::host_processor())};
      reply_.findings.push_back(
          {Level::Warning, FindingCode::AddOnForThisMachine,
           "Wexlo was built without an arm64 compiler: the add-on is for this "
           "machine's processor and would not start on an arm64 phone.",
           "add-on"});
    }
    for (const auto& [processor, program] : add_on.programs)
      WEXLO_CHECK(write_file(folder_ / "add-on" / processor / "hello", as_view(program),
                             Overwrite::Refuse));
    WEXLO_CHECK(write_file(recipe(), as_view(add_on.recipe), Overwrite::Refuse));
    for (const auto& [name, text] : demo::bench_files())
      WEXLO_CHECK(write_file(folder_ / "sheets" / name, as_view(text), Overwrite::Refuse));
    return make_root_package();
  }

  /// An archive as technicians get them, and the recipe that puts it in without unpacking it.
  Status make_root_package() {
    WEXLO_TRY(const demo::RootPackage package, demo::tide_package());
    WEXLO_CHECK(write_file(folder_ / "tide" / "tide.zip", package.zip, Overwrite::Refuse));
    return write_file(tide_recipe(), as_view(package.recipe), Overwrite::Refuse);
  }

  Status job() {
    WEXLO_CHECK(step("What is in the package? Nothing is unpacked for this.",
                     {"inspect", firmware().string()}));
    WEXLO_CHECK(step("Take the boot chain out; every digest on the way is checked.",
                     {"extract", firmware().string(), "-o", path("images")}));
    WEXLO_CHECK(step("Would a phone start it? The chain of verified boot, judged as a loader does.",
                     {"check", path("images")}));
    WEXLO_CHECK(step("Look at the image that starts the system.",
                     {"inspect", path("images/init_boot.img")}));
    WEXLO_CHECK(step("Take it apart into a folder that any editor can change.",
                     {"unpack", path("images/init_boot.img"), "-o", path("parts")}));
    WEXLO_CHECK(step("Put it together again. Nothing was edited, so not a byte may differ.",
                     {"repack", path("parts"), "-o", path("init_boot-again.img")}));
    WEXLO_CHECK(same("images/init_boot.img", "init_boot-again.img"));
    WEXLO_CHECK(step(
        "Patch it: the recipe puts the add-on in init's place and keeps the stock "
        "init. Each changed byte is accounted for.",
        with_recipe({"patch", path("images/init_boot.img"), "-o", path("init_boot-patched.img")})));
    WEXLO_CHECK(step(
        "Patch the patched image: there is nothing left to do.",
        with_recipe({"patch", path("init_boot-patched.img"), "-o", path("init_boot-twice.img")})));
    WEXLO_CHECK(same("init_boot-patched.img", "init_boot-twice.img"));
    WEXLO_CHECK(
        step("The way back: the stock image out of the patched one alone.",
             {"restore", path("init_boot-patched.img"), "-o", path("init_boot-restored.img")}));
    WEXLO_CHECK(same("images/init_boot.img", "init_boot-restored.img"));
    WEXLO_CHECK(step("The phone at the bench: a sheet of it, from properties pasted into a file.",
                     {"sheet", "--props", path("sheets/gnomon-properties.txt"), "--over",
                      path("sheets/gnomon-notes.toml"), "-o", path("sheets/gnomon.toml")}));
    WEXLO_CHECK(step("The main job in one command: from the package to a kit ready for flashing.",
                     with_recipe({"prepare", firmware().string(), "--sheet",
                                  path("sheets/gnomon.toml"), "-o", path("kit")})));
    WEXLO_CHECK(
        step("Is the kit whole, and what will a phone make of it?", {"check", path("kit")}));
    WEXLO_CHECK(
        step("What will happen on the phone? The plan, played on a simulated one, and back.",
             {"rehearse", path("kit"), "--against", firmware().string()}));
    return on_a_phone();
  }

  /// A simulated phone answers over TCP on this machine, as one at a bench would over its wire.
  Status on_a_phone() {
    WEXLO_TRY(const FirmwarePtr stock,
              open_firmware(firmware().string(), {.context = session_.context}));
    WEXLO_TRY(const Sheet sheet, read_sheet(folder_ / "sheets/gnomon.toml"));
    WEXLO_TRY(const auto served, ServedPhone::begin(&sheet, stock.get(), session_.context));
    const std::string address = address_text(served->address());
    say(
        fmt::format("A simulated phone answers at {}. It is files in memory; a real one is reached "
                    "over USB in the same way.",
                    address));
    WEXLO_CHECK(step("Which phone is it?", {"phones", address}));
    WEXLO_CHECK(step("The plan, played on it: step by step, with a log in the kit.",
                     {"flash", path("kit"), "--phone", address, "--hands-done"}));
    tell_start(*served);
    WEXLO_CHECK(confirm("Did it take? What the phone shows, held against the kit.", *served));
    WEXLO_CHECK(step("And back: the stock images are written where others were.",
                     {"flash", path("kit"), "--phone", address, "--hands-done", "--back"}));
    tell_start(*served);
    return confirm("Is the stock system back?", *served);
  }

  /// What a technician would save of the phone, in a file.
  Status confirm(const std::string& why, ServedPhone& phone) {
    WEXLO_CHECK(write_file(folder_ / "phone.txt", as_view(saved_text(phone.last_start())),
                           Overwrite::Replace));
    return step(why, {"confirm", path("kit"), path("phone.txt")});
  }

  void tell_start(ServedPhone& phone) {
    const PoweredOn started = phone.last_start();
    say(fmt::format("The simulated phone: {}. {}{}", start_word(started.verdict), started.reason,
                    started.addon == AddonSeen::Seen ? " The add-on runs." : ""));
  }

  /// The other phones, an update from one build to the next, another system, the wrong phones.
  Status others() {
    WEXLO_CHECK(root_package());
    WEXLO_CHECK(incremental());
    WEXLO_CHECK(generic_system());
    say("A second phone: Korvale Tarn 2, codename vernier. Its firmware is a zip in a zip, super "
        "in "
        "three sparse pieces.");
    const fs::path factory = folder_ / "vernier-factory.zip";
    WEXLO_CHECK(demo::write_vernier(factory, demo::FirmwareSize::Usual, session_.context));
    WEXLO_CHECK(phone(factory, "vernier", "vernier-other-variant"));
    say("A third phone: Korvale Tarn 1, codename plumbline. Its firmware is a download-mode tar "
        "with lz4 members and a sum line.");
    const fs::path tar = folder_ / "plumbline-download.tar.md5";
    WEXLO_CHECK(demo::write_plumbline(tar, demo::FirmwareSize::Usual, session_.context));
    WEXLO_CHECK(phone(tar, "plumbline", "plumbline-other-phone"));
    WEXLO_CHECK(step("Put the patched image into the package itself: sums and sizes stay valid.",
                     {"insert", tar.string(), "boot=" + path("plumbline-kit/flash/boot.img"), "-o",
                      path("plumbline-patched.tar.md5")}));
    return step("A tray of phones: each firmware for the phones that it fits.",
                {"batch", path("sheets/tray.toml"), "--no-cache"});
  }

  Status root_package() {
    WEXLO_CHECK(
        step("A root package in an archive, tide: its recipe is checked before it is trusted.",
             {"recipes", "--check", tide_recipe().string()}));
    WEXLO_CHECK(
        step("It goes into gnomon's init_boot. The module is chosen by the kernel's generation, "
             "which boot's kernel tells.",
             with_recipe({"prepare", firmware().string(), "--sheet", path("sheets/gnomon.toml"),
                          "-o", path("kit-tide")},
                         tide_recipe())));
    WEXLO_CHECK(
        step("What it brought, file by file.",
             {"compare", path("images/init_boot.img"), path("kit-tide/flash/init_boot.img")},
             ExitFinding));
    WEXLO_CHECK(step("And out again.", {"restore", path("kit-tide/flash/init_boot.img"), "-o",
                                        path("init_boot-without-tide.img")}));
    return same("images/init_boot.img", "init_boot-without-tide.img");
  }

  Status generic_system() {
    const fs::path image = folder_ / "generic-system.img";
    WEXLO_CHECK(demo::write_generic_system(image));
    std::vector<std::string> command = with_recipe(
        {"prepare", firmware().string(), "--sheet", path("sheets/gnomon.toml"), "--with",
         "system=" + image.string(), "--wipe", "-o", path("kit-generic-system")});
    WEXLO_CHECK(step("Another system for gnomon: it fits once leftovers made room.", command));
    return step("The phone's super before the plan, and after it.",
                {"draw", path("kit-generic-system"), "--figure", "super", "-o", path("super.png")});
  }

  Status incremental() {
    say("An incremental package of gnomon, and the full one of the build before.");
    const fs::path older = folder_ / "gnomon-ota-260805.zip";
    const fs::path update = folder_ / "gnomon-ota-260805-to-260905.zip";
    WEXLO_CHECK(demo::write_gnomon(older, {.older = true}, session_.context));
    WEXLO_CHECK(demo::write_gnomon_incremental(update, session_.context));
    WEXLO_CHECK(step("What does the update bring?", {"inspect", update.string()}));
    WEXLO_CHECK(
        step("Whole images out of it: patched from the older build's, which are checked "
             "first; the hash tree that the phone would generate is generated.",
             {"extract", update.string(), "--all", "--base", older.string(), "-o",
              path("images-updated")}));
    WEXLO_CHECK(same("images/init_boot.img", "images-updated/init_boot.img"));
    WEXLO_CHECK(step("A phone that took an update since: the firmware is older than what it runs.",
                     with_recipe({"prepare", firmware().string(), "--sheet",
                                  path("sheets/gnomon-newer.toml"), "-o", path("kit-refused")}),
                     ExitFinding));
    WEXLO_CHECK(step("A phone patched with the older build's images.",
                     with_recipe({"prepare", older.string(), "-o", path("kit-260805")})));
    return step(
        "It takes the new build, and is patched again as it was: in that order.",
        {"prepare", firmware().string(), "--like", path("kit-260805"), "-o", path("kit-update")});
  }

  Status phone(const fs::path& firmware, const std::string& name, const std::string& wrong) {
    WEXLO_CHECK(step("What is in it?", {"inspect", firmware.string()}));
    WEXLO_CHECK(step("Take two partitions out.", {"extract", firmware.string(), "boot", "system",
                                                  "-o", path(name + "-images")}));
    const auto prepare = [&](const std::string& sheet, const std::string& kit) {
      auto command = with_recipe({"prepare", firmware.string(), "--sheet",
                                  path("sheets/" + sheet + ".toml"), "-o", path(kit)});
      // In download mode a changed image wants a vbmeta that verifies nothing beside it.
      if (name == "plumbline") command.insert(command.end(), {"-r", "@verification-off"});
      return command;
    };
    WEXLO_CHECK(step("The main job.", prepare(name, name + "-kit")));
    return step("The same firmware for the wrong phone: there is no kit.",
                prepare(wrong, name + "-refused"), ExitFinding);
  }

  std::vector<std::string> with_recipe(std::vector<std::string> command) const {
    return with_recipe(std::move(command), recipe());
  }
  std::vector<std::string> with_recipe(std::vector<std::string> command,
                                       const fs::path& recipe) const {
    command.insert(command.end(), {"-r", recipe.string()});
    command.insert(command.end(), processor_words_.begin(), processor_words_.end());
    return command;
  }

  fs::path firmware() const { return folder_ / "gnomon-ota.zip"; }
  fs::path recipe() const { return folder_ / "add-on" / "recipe.toml"; }
  fs::path tide_recipe() const { return folder_ / "tide" / "tide.toml"; }
  std::string path(std::string_view name) const { return (folder_ / name).string(); }

  void tell(const std::string& text) {
    cli::tell(session_, session_.out, text);
    session_.out.flush();
  }

  void say(const std::string& text) {
    if (!session_.globals.json && !session_.globals.quiet)
      tell("\n" + session_.paint.heading("== ") + text + "\n");
  }

  Status step(const std::string& why, std::vector<std::string> command, int wanted = ExitDone) {
    say(why);
    const std::string shown = fmt::format("wexlo {}", fmt::join(command, " "));
    if (!session_.globals.json && !session_.globals.quiet)
      tell(session_.paint.good("$ " + shown) + "\n");
    // The step takes over what this run was told; its own options are the ones shown.
    std::ostringstream captured;
    Session inner{session_.globals.json || session_.globals.quiet ? captured : session_.out,
                  session_.err,
                  {},
                  {},
                  session_.context};
    command.insert(command.end(), {"--color", session_.paint.on ? "always" : "never", "--jobs",
                                   fmt::format("{}", session_.context.jobs)});
    if (session_.globals.json) command.emplace_back("--json");
    const int code = run_program(command, inner);
    Json row = {{"command", shown}, {"exit_code", code}};
    if (session_.globals.json) row["reply"] = Json::parse(captured.str());
    steps_.push_back(std::move(row));
    if (code == wanted) return {};
    if (code == ExitInterrupted) return check_stop(session_.context);
    return fail(
        {.code = ErrorCode::Io,
         .message = fmt::format("the demo's step \"{}\" ended with exit code {}", shown, code),
         .file = folder_.string(),
         .hint = "See the message above; is there space on the disk?"});
  }

  Status same(const std::string& a, const std::string& b) {
    WEXLO_TRY(const SourcePtr first, open_file(folder_ / a));
    WEXLO_TRY(const SourcePtr second, open_file(folder_ / b));
    WEXLO_TRY(const Blob one, read_all(*first, 1u << 30));
    WEXLO_TRY(const Blob two, read_all(*second, 1u << 30));
    if (!equal(one.view(), two.view()))
      return fail({.code = ErrorCode::Unexplained,
                   .message = fmt::format("{} and {} differ", a, b),
                   .file = folder_.string()});
    say(fmt::format("{} and {} are the same, byte for byte.", a, b));
    return {};
  }

  fs::path folder_;
  bool all_, began_ = false;
  Session& session_;
  Reply reply_;
  Json steps_ = Json::array();
  std::vector<std::string> processor_words_;  ///< of every command that patches
};

}  // namespace

void add_demo(Commands& commands, Session& session, int& exit_code) {
  auto options = std::make_shared<DemoArguments>();
  Command(commands, "demo")
      .operand("DIR", options->folder, "Folder to make (default: wexlo-demo)", Need::Optional)
      .flag("--all", options->all, "Besides: two older phones, and an incremental package")
      .flag("--force", options->force, "Replace a demo folder that is there already")
      .runs([=, &session, &exit_code] {
        const auto overwrite = options->force ? Overwrite::Replace : Overwrite::Refuse;
        exit_code = finish(session, "demo", Demo(*options, session).run(overwrite));
      });
}

}  // namespace wexlo::cli
