#pragma once
/// The verified-boot chain as a tree: what covers what, with which key, and what is valid.

#include "reply.hpp"
#include "verified/chain.hpp"

namespace wexlo::cli {

[[nodiscard]] Json chain_json(const verified::Walk& walk);
/// For people; ends with a line end; empty: there is no chain.
[[nodiscard]] std::string chain_text(const verified::Walk& walk, const Session& session);

}  // namespace wexlo::cli
