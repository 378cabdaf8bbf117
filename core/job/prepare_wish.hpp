#pragma once
/// What somebody asks of `prepare`, as files and words; read and checked before any work is done.

#include "job/prepare.hpp"

namespace wexlo {

struct PrepareWish {
  std::string firmware;              ///< path or address
  std::vector<std::string> recipes;  ///< paths, or @name
  Settings settings;                 ///< of their parameters, and what tells of the phone
  std::string like;                  ///< folder of an older kit; empty: none
  std::string sheet;                 ///< path; empty: none
  std::optional<Slots> slots;        ///< nullopt: as the sheet has it
  std::string key, signer;           ///< see find_signer
  std::vector<GivenFile> given;
  std::vector<std::string> accept;
  std::string technician{};     ///< for the report; may be empty
  std::string base;             ///< the older build of an incremental package: a folder or firmware
  bool allow_programs = false;  ///< recipes may run programs that they bring along
  bool onto_foreign = false, wipe = false, stock = false, whole = false;
};

/// Errors: Usage (no recipe, or more than one source of recipes), those of reading recipes, kit,
/// sheet and key. @param findings  what has to be told of the key and the older kit
[[nodiscard]] Result<PrepareOptions> options_of(const PrepareWish& wish,
                                                std::vector<Finding>& findings,
                                                const Context& context);

}  // namespace wexlo
