#pragma once
/// One function a command: adds it to the program's options. The command runs when its callback is
/// called; its exit code goes to `exit_code`.

namespace CLI {
class App;
}

namespace wexlo::cli {

struct Session;

void add_inspect(CLI::App& app, Session& session, int& exit_code);
void add_extract(CLI::App& app, Session& session, int& exit_code);
void add_unpack(CLI::App& app, Session& session, int& exit_code);
void add_repack(CLI::App& app, Session& session, int& exit_code);
void add_compare(CLI::App& app, Session& session, int& exit_code);
void add_patch(CLI::App& app, Session& session, int& exit_code);
void add_restore(CLI::App& app, Session& session, int& exit_code);
void add_check(CLI::App& app, Session& session, int& exit_code);
void add_seal(CLI::App& app, Session& session, int& exit_code);
void add_keys(CLI::App& app, Session& session, int& exit_code);
void add_prepare(CLI::App& app, Session& session, int& exit_code);
void add_batch(CLI::App& app, Session& session, int& exit_code);
void add_sheet(CLI::App& app, Session& session, int& exit_code);
void add_insert(CLI::App& app, Session& session, int& exit_code);
void add_draw(CLI::App& app, Session& session, int& exit_code);
void add_recipes(CLI::App& app, Session& session, int& exit_code);
void add_demo(CLI::App& app, Session& session, int& exit_code);

}  // namespace wexlo::cli
