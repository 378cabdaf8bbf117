#pragma once
/// Applying recipes to one image, and proving that nothing else changed.

#include "recipe/patched.hpp"
#include "recipe/recipe.hpp"

namespace wexlo {

/// What an image alone tells of the phone. Errors: Interrupted.
[[nodiscard]] Result<PhoneFacts> phone_facts(const LoadedImage& image, const Context& context);

/// The partition that an image belongs to, from its own verified-boot footer, else from its kind.
[[nodiscard]] std::string partition_of(const LoadedImage& image);
/// The same, where its own footer names it; empty: it does not.
[[nodiscard]] std::string claimed_partition(const LoadedImage& image);

/// Whether an edit is for this image at all.
[[nodiscard]] bool concerns(const Image& image, const PatchRole& role, const Edit& edit);

/// Applies all edits that concern this image, re-reads the result and accounts for every changed
/// byte; then the way back is tried. An edit that matched nothing is reported, not refused: see
/// check_matches. Precondition: the recipes' files are bound.
/// Errors: Unexplained (with place), DoesNotFit, Mismatch (a program for another processor, a part
/// of another version), BadValue (a byte pattern with another count), Unsupported, the parsers'.
[[nodiscard]] Result<Patched> patch_image(const LoadedImage& stock, const PatchRole& role,
                                          const std::vector<Recipe>& recipes,
                                          const Context& context = {});

/// NoMatch, when an edit that may not miss matched nothing in any of the images it was tried on.
/// @param reports  one list for each image, all in the recipes' order
[[nodiscard]] Status check_matches(const std::vector<std::vector<EditReport>>& reports);

/// Compares stock and patched bytes structure by structure, independently of how they were made.
/// Errors: Unexplained, and the parsers' (the output does not even read).
/// @param output   what was written  @param patched  gets the ranges and entries that differ
[[nodiscard]] Status account(const LoadedImage& stock, const LoadedImage& output, Patched& patched,
                             const Intent& intent, const Context& context);

}  // namespace wexlo
