/// Everything that needs the option library: its header costs a compiler ten seconds.

#include "program.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <algorithm>
#include <system_error>

#include "base/error_kinds.hpp"
#include "commands.hpp"
#include "options.hpp"
#include "reply.hpp"
#include "settings.hpp"
#include "size_text.hpp"

namespace wexlo::cli {
namespace {

struct ProgramArguments {
  std::string color = "auto", config;
  std::optional<unsigned> jobs;
  std::string limit;
};

/// Far above any phone's storage.
constexpr std::uint64_t kMostLimit = std::uint64_t{1} << 50;

bool wants_color(const std::string& color) {
  if (color == "always") return true;
  if (color == "never" || std::getenv("NO_COLOR") != nullptr) return false;
  return isatty(STDOUT_FILENO) != 0;
}

void add_globals(CLI::App& app, ProgramArguments& options, Globals& globals) {
  app.add_flag("--json", globals.json, "Print one JSON document instead of text");
  auto* quiet = app.add_flag("-q,--quiet", globals.quiet, "Print findings and errors only");
  app.add_flag("-v,--verbose", globals.verbose, "Print more detail")->excludes(quiet);
  app.add_option("--color", options.color, "When to use colours")
      ->check(CLI::IsMember({"auto", "always", "never"}))
      ->capture_default_str();
  app.add_option("--jobs", options.jobs, "Threads to use")->check(CLI::Range(1u, 256u));
  app.add_option(
         "--limit", options.limit,
         "Bytes that decoded content may take in memory, and an image on the disk, e.g. 64G")
      ->check([](const std::string& text) {
        return size_from(text, kMostLimit) ? std::string() : "\"" + text + "\" is no size, e.g. 2G";
      })
      ->type_name("SIZE");
  app.add_option("--config", options.config, "Settings file to read")->type_name("FILE");
}

void apply_globals(const ProgramArguments& options, Session& session, int& exit_code) {
  session.paint.on = wants_color(options.color);
  if (session.globals.quiet || session.globals.json)
    session.context.progress = session.context.steps = {};
  const auto jobs = jobs_setting(options.jobs, options.config);
  if (!jobs) {
    exit_code = finish(session, "wexlo", std::unexpected(jobs.error()));
    throw CLI::RuntimeError(exit_code);
  }
  session.context.jobs = *jobs;
  if (const auto limit = size_from(options.limit, kMostLimit)) {
    session.context.decode_bound = *limit;
    session.context.held = std::make_shared<HeldBytes>(*limit);
  }
}

/// The command that was called, for replies about what went wrong in it.
std::string running(const CLI::App& app) {
  const auto called = app.get_subcommands();
  return called.empty() ? "wexlo" : called.front()->get_name();
}

/// Where the user finds what a command takes.
std::string help_hint(const CLI::App& app) {
  const auto called = app.get_subcommands();
  return called.empty()
             ? "wexlo --help lists the commands."
             : fmt::format("wexlo {} --help tells what it takes.", called.front()->get_name());
}

/// What a command line leaves out, in the voice of the commands themselves.
Error left_out(const CLI::App& app, const std::vector<std::string>& arguments) {
  const auto called = app.get_subcommands();
  if (called.empty()) {
    auto word = arguments.begin();
    for (; word != arguments.end() && word->starts_with('-'); ++word)
      if (const CLI::Option* known = app.get_option_no_throw(*word);
          known != nullptr && known->get_items_expected() > 0 && word + 1 != arguments.end())
        ++word;  // its value
    return {.code = ErrorCode::Usage,
            .message = word == arguments.end() ? "no command was given"
                                               : fmt::format("no command is called \"{}\"", *word),
            .hint = help_hint(app)};
  }
  const CLI::App& command = *called.front();
  Error out{.code = ErrorCode::Usage,
            .message = command.get_name() + " needs more",
            .hint = help_hint(app)};
  for (const CLI::Option* one : command.get_options()) {
    if (!one->get_required() || one->count() != 0) continue;
    out.message = fmt::format("{} needs {}{}", command.get_name(), one->get_name(),
                              one->get_positional() ? "" : " " + one->get_type_name());
    break;
  }
  return out;
}

}  // namespace

Command::Command(CLI::App& app, const std::string& name, const std::string& about)
    : command_(app.add_subcommand(name, about)) {}

Command& Command::positional(const std::string& name, std::string& value, const std::string& about,
                             Need need) {
  command_->add_option(name, value, about)->required(need == Need::Required);
  return *this;
}

Command& Command::positional(const std::string& name, std::vector<std::string>& values,
                             const std::string& about, Need need) {
  command_->add_option(name, values, about)->required(need == Need::Required);
  return *this;
}

Command& Command::option(const std::string& names, const std::string& type, std::string& value,
                         const std::string& about, Need need) {
  command_->add_option(names, value, about)->type_name(type)->required(need == Need::Required);
  return *this;
}

Command& Command::option(const std::string& names, const std::string& type,
                         std::vector<std::string>& values, const std::string& about, Need need) {
  // One value each time it is given: what follows may be a positional.
  command_->add_option(names, values, about)
      ->type_name(type)
      ->required(need == Need::Required)
      ->allow_extra_args(false);
  return *this;
}

Command& Command::list(const std::string& names, const std::string& type,
                       std::vector<std::string>& values, const std::string& about, Need need) {
  // The library leaves as many words as required positionals still want.
  command_->add_option(names, values, about)->type_name(type)->required(need == Need::Required);
  return *this;
}

Command& Command::choice(const std::string& names, const std::vector<std::string>& choices,
                         std::string& value, const std::string& about) {
  command_->add_option(names, value, about)->check(CLI::IsMember(choices))->capture_default_str();
  return *this;
}

Command& Command::flag(const std::string& names, bool& value, const std::string& about) {
  command_->add_flag(names, value, about);
  return *this;
}

Command& Command::excludes(const std::string& one, const std::string& other) {
  command_->get_option(one)->excludes(command_->get_option(other));
  return *this;
}

void Command::runs(std::function<void()> run) {
  command_->callback(std::move(run));
}

int run_program(std::vector<std::string> arguments, Session& session) {
  CLI::App app{"Boot images out of firmware, patched, proven and ready to flash.", "wexlo"};
  app.require_subcommand(1);
  app.fallthrough();  // global options may follow the command
  app.set_version_flag("--version", std::string("wexlo ") + WEXLO_VERSION);
  ProgramArguments options;
  int exit_code = ExitDone;
  session.globals = {};
  add_globals(app, options, session.globals);
  app.parse_complete_callback([&] { apply_globals(options, session, exit_code); });
  for (const auto add : {add_inspect, add_extract, add_unpack, add_repack, add_compare, add_patch,
                         add_restore, add_check, add_seal, add_keys, add_prepare, add_batch,
                         add_sheet, add_insert, add_draw, add_recipes, add_demo})
    add(app, session, exit_code);
  const bool json = std::ranges::find(arguments, "--json") != arguments.end();
  try {
    app.parse(std::vector<std::string>(arguments.rbegin(),
                                       arguments.rend()));  // the library takes them last first
  } catch (const CLI::RuntimeError& error) {
    return error.get_exit_code();
  } catch (const CLI::RequiredError&) {
    session.globals.json = json;
    return finish(session, running(app), fail(left_out(app, arguments)));
  } catch (const CLI::ParseError& error) {
    if (error.get_exit_code() == 0) return app.exit(error, session.out, session.err);
    session.globals.json = json;
    return finish(
        session, "wexlo",
        fail({.code = ErrorCode::Usage, .message = error.what(), .hint = help_hint(app)}));
  } catch (const std::bad_alloc& why) {
    return finish(session, running(app), fail(no_memory_error(why, "wexlo " + running(app))));
  } catch (const std::system_error& why) {
    return finish(session, running(app),
                  fail(io_error(why.code().value(), "the system refused", running(app))));
  } catch (const std::exception& fault) {
    return finish(session, running(app), fail(internal_error(fault.what())));
  }
  return exit_code;
}

}  // namespace wexlo::cli
