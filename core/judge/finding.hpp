#pragma once
/// What a person should know of something that was looked at.

#include <string>

namespace wexlo {

struct Finding {
  std::string level;  ///< "note", "warning", "problem"
  std::string code;   ///< stable, for scripts
  std::string message, where;
};

}  // namespace wexlo
