#include "base/error_table.hpp"

#include <algorithm>
#include <iterator>

namespace wexlo {
namespace {

using E = ErrorCode;

constexpr ErrorKind kErrors[] = {
    {E::Usage, "usage", "The command line is wrong.",
     "Nothing is guessed: a wrong guess could write the wrong file.",
     "Correct the word that the message names. wexlo help COMMAND shows what it takes."},
    {E::BadMagic, "bad-magic", "The file does not begin as its kind of file begins.",
     "What follows would be read at wrong places.",
     "Check that it is the right file. wexlo inspect tells what it is."},
    {E::Truncated, "truncated", "The file ends before its content does.",
     "An image that is cut does not start a phone.",
     "Copy or download it again, and compare its size with the source's."},
    {E::OutOfRange, "out-of-range", "A place or size in the file points outside it.",
     "Reading there would give foreign bytes.", "Take the file from its source again."},
    {E::BadValue, "bad-value", "A field has a value that its format does not know.",
     "What depends on it cannot be read.",
     "Correct it where you wrote the file yourself; else take the file again."},
    {E::DigestMismatch, "digest-mismatch", "The bytes are not those that the digest was made of.",
     "The content was damaged or changed on its way.", "Download or copy the package again."},
    {E::BadSignature, "bad-signature", "A signature is not valid for the content and the key.",
     "It was not made by the owner of that key, or the content was changed.",
     "Take the package from its source again; check that it is the right key."},
    {E::LimitExceeded, "limit-exceeded", "The content would take more room than is allowed.",
     "A small damaged file can claim any size.",
     "If the size is right, allow it with --limit, e.g. --limit 64G."},
    {E::Mismatch, "mismatch", "Two parts of the input do not go together.",
     "One of them is of another build or another phone.", "Take both from the same package."},
    {E::UnsafePath, "unsafe-path", "A name in the input leads outside the output folder.",
     "Writing there could replace files of yours.",
     "Do not trust this file; take it from its source."},
    {E::Corrupt, "corrupt", "The content does not decode.", "It was damaged.",
     "Copy or download it again."},
    {E::NoPartitions, "no-partitions", "Nothing in it belongs on a phone's partition.",
     "It is another kind of file, or a folder of other things.",
     "Give the package or folder that holds the images. wexlo inspect tells what a file is."},
    {E::Unsupported, "unsupported", "The kind is known, and Wexlo does not read or do it.",
     "A half-read package would give wrong images.",
     "The message names what can be given instead, where there is something."},
    {E::NotFound, "not-found", "There is no such file or partition.", "",
     "Check the spelling, and the folder that you are in."},
    {E::Exists, "exists", "There is already something under this name.",
     "It is never replaced without being asked for.",
     "Give another name, or --force to replace it."},
    {E::Permission, "permission", "The system does not allow it.",
     "The file or its folder belongs to somebody else, or the disk is read-only.",
     "Write to a folder of your own, or ask its owner."},
    {E::NoSpace, "no-space", "There is not enough space on the disk.", "",
     "Free some space, or write to another disk. Nothing was left half-written."},
    {E::Io, "io", "Reading or writing failed.", "The disk, the cable or the network failed.",
     "Try again; if it stays, try another disk or another copy."},
    {E::NoMemory, "no-memory", "The system gave no more memory.", "",
     "Close other programs, or lower --jobs."},
    {E::Internal, "internal", "A fault of Wexlo's own.", "",
     "Please report it, with the command and the file."},
    {E::NoMatch, "no-match", "An edit of a recipe found nothing to change.",
     "A patched image without that edit would not do what the recipe promises.",
     "Correct the recipe, or let the edit miss with may_miss = true."},
    {E::DoesNotFit, "does-not-fit", "Problems were found, so nothing was made.",
     "What does not fit this phone may leave it unable to start.",
     "Read the findings. Take the firmware of this very phone."},
    {E::Unexplained, "unexplained-change", "Something differs that no edit explains.",
     "An image that differs for unknown reasons is never handed out.",
     "Please report it, with the image and the recipe."},
    {E::ForeignPatch, "foreign-patch", "The image carries a patch of another tool.",
     "Patching on top of it may break both, and there is no way back to stock from it.",
     "Take the stock image. --onto-foreign patches on top all the same."},
    {E::NoTarget, "no-target", "No image was found whose ramdisk starts the system.",
     "A patch elsewhere would not run.",
     "Give the whole firmware. wexlo inspect shows which images are in it."},
    {E::Ambiguous, "ambiguous", "There is more than one candidate, and they differ.",
     "The wrong one may not start.", "Name the one that is meant."},
    {E::NoWayBack, "no-way-back", "The image alone does not lead back to the stock one.",
     "What was removed from it is not in it.",
     "Give the stock image that was kept with --stock: a kit has it in stock/."},
    {E::WouldRefuse, "would-refuse", "A loader would refuse what comes out.",
     "The phone would not start it, not even unlocked.",
     "The message names the rule; wexlo check tells more."},
    {E::NeedsPerson, "needs-person", "Somebody has to agree, or to do something by hand.",
     "It may cost the user's data, no wire does it, or a recipe brings a program that would run "
     "here.",
     "Run it at a terminal, or give the option that the message names."},
    {E::PhoneRefused, "phone-refused", "The phone refused a command.",
     "It is locked, in another mode, or does not know the command.",
     "Read the phone's own words in the message."},
    {E::LinkLost, "link-lost", "The connection to the phone was lost.",
     "The cable, the port or the phone's mode changed.",
     "Check the cable and the phone's screen, then try again."},
    {E::ReplyLost, "reply-lost", "The phone was told to do something, and its answer was lost.",
     "It may have done it, in whole or in part, or not at all.",
     "Check the cable, then go on with the same step: it is done again from its start."},
    {E::Interrupted, "interrupted", "The run was stopped from outside.", "",
     "Nothing was left half-written. Run it again."},
};

}  // namespace

std::span<const ErrorKind> error_kinds() {
  return kErrors;
}

const ErrorKind* find_error(std::string_view name) {
  const auto* const kind = std::ranges::find(kErrors, name, &ErrorKind::name);
  return kind == std::end(kErrors) ? nullptr : kind;
}

std::string_view code_name(ErrorCode code) {
  const auto* const kind = std::ranges::find(kErrors, code, &ErrorKind::code);
  return kind == std::end(kErrors) ? "unknown" : kind->name;
}

}  // namespace wexlo
