#include "inspect.hpp"

#include "commands.hpp"
#include "options.hpp"

namespace wexlo::cli {
namespace {

Result<Reply> run_inspect(const std::vector<std::string>& paths, const std::string& key,
                          const Session& session) {
  Opening opening;
  if (!key.empty()) {
    WEXLO_TRY(opening.key, read_key_file(key));
  }
  const Depth depth = session.globals.verbose ? Depth::Encoders : Depth::Usual;
  Reply reply;
  reply.result["items"] = Json::array();
  for (const std::string& path : paths) {
    WEXLO_TRY(const Inspection item, inspect(path, session.context, depth, opening));
    reply.result["items"].push_back(inspection_json(item));
    add_findings(item, reply);
    reply.text += (reply.text.empty() ? "" : "\n") + inspection_text(item, session);
  }
  return reply;
}

}  // namespace

void add_inspect(Commands& commands, Session& session, int& exit_code) {
  auto paths = std::make_shared<std::vector<std::string>>();
  auto key = std::make_shared<std::string>();
  Command(commands, "inspect")
      .operand("PATH", *paths, "Firmware, image, folder or address")
      .option("--key", "PUBKEY", *key, "Verify the payload metadata's signature (PEM)")
      .runs([=, &session, &exit_code] {
        exit_code = finish(session, "inspect", run_inspect(*paths, *key, session));
      });
}

}  // namespace wexlo::cli
