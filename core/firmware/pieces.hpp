#pragma once
/// Images that come in numbered files.

#include "firmware/opening.hpp"

namespace wexlo {

struct PieceFile {
  SourcePtr source;
  unsigned number = 0;
  std::string name;  ///< of the file, for messages
};

struct JoinedPieces {
  SourcePtr source;
  bool sparse = false;  ///< laid over each other; else one behind the other
};

/// @param files  sorted by number; what packs each is taken off, a sparse piece stays one
/// @param sure   their names say that they are pieces
/// nullopt: they are images of their own. Errors: NotFound (a number is missing, or there twice),
/// and those of the pieces.
[[nodiscard]] Result<std::optional<JoinedPieces>> join_pieces(std::vector<PieceFile> files,
                                                              bool sure, const std::string& name,
                                                              const Opening& opening);

}  // namespace wexlo
