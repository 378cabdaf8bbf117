#pragma once
/// A kit made once more, from the firmware and what the kit itself has of how it was made, and held
/// against the kit byte for byte: docs/formats/kit.md, "Made again".

#include <filesystem>

#include "compare/file_difference.hpp"
#include "job/prepare.hpp"

namespace wexlo {

struct RemakeOptions {
  std::string firmware;         ///< path or address
  std::string base;             ///< the older build of an incremental package; may be empty
  bool allow_programs = false;  ///< recipes of the kit may run programs that they brought along
  std::string key;  ///< the owner's private key; empty, or no such: see verified::kept_signer
};

enum class Remade : std::uint8_t {
  Same,     ///< every byte
  Differs,  ///< in files that are named
  Not,      ///< no kit came about: a finding says why
};
/// As JSON has it: "same", "differs", "not-made".
[[nodiscard]] std::string_view remade_word(Remade remade);

struct RemadeFile {
  std::string file;  ///< below the kit's folder
  /// a: the kit's, b: as it was made once more. nullopt: one of the two does not have the file.
  std::optional<FileDifference> difference;
  bool missing = false;  ///< without a difference: the kit is the one that does not have it
};

struct RemadeKit {
  Remade outcome = Remade::Not;
  std::string made_by, this_one;    ///< versions of Wexlo
  std::size_t files = 0;            ///< that were compared
  std::uint64_t bytes = 0;          ///< of those
  std::vector<RemadeFile> differs;  ///< by name
  std::vector<Finding> findings;
};

/// The record and the flash log are no part of it: they came later. What stops a kit from being
/// made is told in the findings. Errors: those of the kit's manifest, of opening the firmware, and
/// of this run (no room for a second kit in the folder for temporary files, Interrupted).
[[nodiscard]] Result<RemadeKit> remake(const std::filesystem::path& kit,
                                       const RemakeOptions& options, const Context& context);

}  // namespace wexlo
