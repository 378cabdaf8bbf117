/// Reads a command line and runs its command. The option library's header costs a compiler ten
/// seconds: only this file and options.cpp have it.

#include "program.hpp"

#include <fmt/format.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <algorithm>
#include <system_error>

#include "base/error_kinds.hpp"
#include "commands.hpp"
#include "help.hpp"
#include "line.hpp"
#include "options.hpp"
#include "reply.hpp"
#include "size_text.hpp"
#include "text/text.hpp"

namespace wexlo::cli {
namespace {

struct ProgramArguments {
  std::string color, config, jobs, limit;
};

/// Far above any phone's storage.
constexpr std::uint64_t kMostLimit = std::uint64_t{1} << 50;

bool wants_color(const std::string& option, const std::string& setting) {
  if (option == "always") return true;
  if (option == "never" || (option.empty() && std::getenv("NO_COLOR") != nullptr)) return false;
  if (option.empty() && setting != "auto") return setting == "always";
  return isatty(STDOUT_FILENO) != 0;
}

/// Of the terminal; 0: the output is none, lines are as long as they are. COLUMNS has the say where
/// it is in the environment.
std::size_t terminal_columns() {
  constexpr std::size_t kMost = 1000;
  if (const char* text = std::getenv("COLUMNS"))
    if (const auto given = parse_number(text); given && *given > 0)
      return std::min<std::size_t>(*given, kMost);
  winsize size{};
  if (isatty(STDOUT_FILENO) == 0 || ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) != 0) return 0;
  return size.ws_col;
}

void add_globals(Commands& commands, ProgramArguments& options, Globals& globals) {
  CLI::App& app = commands.app;
  app.add_flag("--json", globals.json);
  app.add_flag("--quiet", globals.quiet);
  app.add_flag("--verbose", globals.verbose);
  app.add_option("--color", options.color);
  app.add_option("--jobs", options.jobs);
  app.add_option("--limit", options.limit);
  app.add_option("--config", options.config);
  commands.table.globals = {
      {.name = "--json", .about = "One JSON document instead of text"},
      {.brief = "-q",
       .name = "--quiet",
       .about = "Only what is wrong, and why",
       .excludes = {"--verbose"}},
      {.brief = "-v", .name = "--verbose", .about = "More detail"},
      {.name = "--color",
       .value = "auto|always|never",
       .about = "When to use colours",
       .choices = {"auto", "always", "never"},
       .fallback = "auto"},
      {.name = "--jobs", .value = "N", .about = "Threads to use, 1 to 256"},
      {.name = "--limit",
       .value = "SIZE",
       .about = "How much decoded content may take in memory, and one image on the disk, e.g. 64G"},
      {.name = "--config", .value = "FILE", .about = "Settings file to read"},
      {.brief = "-h", .name = "--help", .about = "The page of the command"},
      {.brief = "-V", .name = "--version", .about = "Name and version"},
  };
}

Status apply_jobs(const ProgramArguments& options, Session& session) {
  session.context.jobs = session.settings.jobs;
  if (options.jobs.empty()) return {};
  const auto jobs = jobs_from(options.jobs);
  if (!jobs)
    return fail({.code = ErrorCode::Usage,
                 .message = "--jobs does not read",
                 .expected = "1 to 256",
                 .found = options.jobs,
                 .hint = "Give a number of threads, or leave it out."});
  session.context.jobs = *jobs;
  return {};
}

Status apply_globals(const ProgramArguments& options, Session& session) {
  // Already for what is wrong with the settings.
  session.paint.on = wants_color(options.color, session.settings.color);
  session.paint.columns = terminal_columns();
  if (session.globals.quiet || session.globals.json)
    session.context.progress = session.context.steps = {};
  WEXLO_TRY(session.settings, read_settings(options.config));
  session.paint.on = wants_color(options.color, session.settings.color);
  WEXLO_CHECK(apply_jobs(options, session));
  if (options.limit.empty()) return {};
  const auto limit = size_from(options.limit, kMostLimit);
  if (!limit)
    return fail({.code = ErrorCode::Usage,
                 .message = "--limit does not read",
                 .expected = "a size",
                 .found = options.limit,
                 .hint = "For example --limit 2G"});
  session.context.decode_bound = *limit;
  session.context.held = std::make_shared<HeldBytes>(*limit);
  return {};
}

/// What `wexlo` alone shows, and what --help and --version do.
std::optional<Reply> page_of(const CommandTable& table, const Line& line, const Paint& paint) {
  Reply reply;
  if (line.version) {
    reply.result["version"] = WEXLO_VERSION;
    reply.text = std::string("wexlo ") + WEXLO_VERSION + "\n";
  } else if (line.help && line.command != nullptr) {
    reply.result = command_json(*line.command);
    reply.text = command_text(table, *line.command, paint);
  } else if (line.help) {
    reply.result["tasks"] = tasks_json();
    reply.text = overview_text(table, paint);
  } else if (line.command == nullptr) {
    reply.result["tasks"] = tasks_json();
    reply.text = tasks_text(paint);
  } else {
    return std::nullopt;
  }
  return reply;
}

/// The program with its commands, for one command line.
class Program {
 public:
  explicit Program(Session& session) : session_(session) {
    app_.require_subcommand(1);
    app_.fallthrough();  // global options may follow the command
    session_.globals = {};
    add_globals(commands_, options_, session_.globals);
    for (const auto add : {add_prepare,  add_check,   add_rehearse, add_flash,   add_confirm,
                           add_diagnose, add_phones,  add_restore,  add_sheet,   add_batch,
                           add_inspect,  add_compare, add_draw,     add_extract, add_insert,
                           add_unpack,   add_repack,  add_patch,    add_seal,    add_recipes,
                           add_keys,     add_help,    add_explain,  add_demo,    add_complete})
      add(commands_, session_, exit_code_);
  }

  int run(const std::vector<std::string>& arguments) {
    const auto has = [&](std::string_view word) {
      return std::ranges::find(arguments, word) != arguments.end();
    };
    auto line = read_line(commands_.table, arguments);
    if (!line || line->command == nullptr || line->help || line->version) {
      // Nothing was parsed: what the answer's form depends on is looked for by hand.
      session_.globals.json = has("--json");
      session_.paint.on = !session_.globals.json && wants_color("", "auto");
      session_.paint.columns = terminal_columns();
    }
    if (!line) return finish(session_, "wexlo", std::unexpected(line.error()));
    if (auto page = page_of(commands_.table, *line, session_.paint))
      return finish(session_, "wexlo", std::move(*page));
    name_ = line->command->name();
    app_.parse_complete_callback([&] {
      if (const auto applied = apply_globals(options_, session_); !applied) {
        exit_code_ = finish(session_, name_, std::unexpected(applied.error()));
        throw CLI::RuntimeError(exit_code_);
      }
    });
    return parse(std::vector<std::string>(line->words.rbegin(), line->words.rend()));
  }

 private:
  /// @param words  last first, as the library takes them
  int parse(std::vector<std::string> words) {
    try {
      app_.parse(std::move(words));
      return exit_code_;
    } catch (const CLI::RuntimeError& error) {
      return error.get_exit_code();
    } catch (const CLI::ParseError& error) {
      // read_line lets nothing through that the library refuses; this is the net below it.
      return finish(session_, name_,
                    fail({.code = ErrorCode::Usage,
                          .message = "the command line was not understood",
                          .found = error.what(),
                          .hint = fmt::format("wexlo help {} shows what it takes.", name_)}));
    } catch (const std::bad_alloc& why) {
      return finish(session_, name_, fail(no_memory_error(why, "wexlo " + name_)));
    } catch (const std::system_error& why) {
      return finish(session_, name_,
                    fail(io_error(why.code().value(), "the system refused", name_)));
    } catch (const std::exception& fault) {
      return finish(session_, name_, fail(internal_error(fault.what())));
    }
  }

  Session& session_;
  CLI::App app_{"", "wexlo"};
  Commands commands_{app_};
  ProgramArguments options_;
  std::string name_ = "wexlo";
  int exit_code_ = ExitDone;
};

}  // namespace

int run_program(const std::vector<std::string>& arguments, Session& session) {
  return Program(session).run(arguments);
}

}  // namespace wexlo::cli
