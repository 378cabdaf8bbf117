#pragma once
/// One function a command: adds it to the program's options. The command runs when its callback is
/// called; its exit code goes to `exit_code`.

namespace wexlo::cli {

struct Session;
struct Commands;

void add_inspect(Commands& commands, Session& session, int& exit_code);
void add_extract(Commands& commands, Session& session, int& exit_code);
void add_unpack(Commands& commands, Session& session, int& exit_code);
void add_repack(Commands& commands, Session& session, int& exit_code);
void add_compare(Commands& commands, Session& session, int& exit_code);
void add_patch(Commands& commands, Session& session, int& exit_code);
void add_restore(Commands& commands, Session& session, int& exit_code);
void add_check(Commands& commands, Session& session, int& exit_code);
void add_seal(Commands& commands, Session& session, int& exit_code);
void add_keys(Commands& commands, Session& session, int& exit_code);
void add_prepare(Commands& commands, Session& session, int& exit_code);
void add_batch(Commands& commands, Session& session, int& exit_code);
void add_rehearse(Commands& commands, Session& session, int& exit_code);
void add_confirm(Commands& commands, Session& session, int& exit_code);
void add_diagnose(Commands& commands, Session& session, int& exit_code);
void add_flash(Commands& commands, Session& session, int& exit_code);
void add_phones(Commands& commands, Session& session, int& exit_code);
void add_sheet(Commands& commands, Session& session, int& exit_code);
void add_insert(Commands& commands, Session& session, int& exit_code);
void add_draw(Commands& commands, Session& session, int& exit_code);
void add_recipes(Commands& commands, Session& session, int& exit_code);
void add_help(Commands& commands, Session& session, int& exit_code);
void add_explain(Commands& commands, Session& session, int& exit_code);
void add_complete(Commands& commands, Session& session, int& exit_code);
void add_demo(Commands& commands, Session& session, int& exit_code);

}  // namespace wexlo::cli
