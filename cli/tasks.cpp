#include "tasks.hpp"

#include <algorithm>
#include <iterator>

namespace wexlo::cli {
namespace {

constexpr Example kPackage[] = {
    {"wexlo inspect gnomon-ota.zip", "which phone and build it is for, and what is in it"},
    {"wexlo sheet --props sheets/gnomon-properties.txt -o phone.toml",
     "what is known of the phone, from its properties in a text file"},
    {"wexlo prepare gnomon-ota.zip -r add-on/recipe.toml --sheet phone.toml -o my-kit",
     "patched images, stock images and the plan"},
    {"wexlo check my-kit", "whole, and would it start?"},
};
constexpr Example kUndo[] = {
    {"wexlo restore init_boot-patched.img -o init_boot-stock.img",
     "the stock image out of the patched one alone"},
    {"wexlo restore kit -o stock-again", "all stock images of a kit, each verified"},
    {"wexlo prepare gnomon-ota.zip --stock -o stock-kit",
     "no kit is left: stock images and the steps, from the firmware"},
};
constexpr Example kNoStart[] = {
    {"wexlo check kit", "is the kit whole, and would a phone start its images?"},
    {"wexlo check init_boot-patched.img --against gnomon-ota.zip",
     "what was changed in an image, against its stock firmware"},
    {"wexlo compare images/init_boot.img init_boot-patched.img",
     "every difference, with its meaning"},
    {"wexlo restore kit -o stock-again", "the stock images, to write them back"},
};
constexpr Example kUpdate[] = {
    {"wexlo inspect gnomon-ota-260805-to-260905.zip", "what the update brings"},
    {"wexlo extract gnomon-ota-260805-to-260905.zip --all --base gnomon-ota-260805.zip -o updated",
     "an incremental package: whole images, from the older build's"},
    {"wexlo prepare gnomon-ota.zip --like kit-260805 -o kit-new",
     "the new build, patched as the older kit was; the plan has the right order"},
};
constexpr Example kLook[] = {
    {"wexlo inspect init_boot-patched.img", "layer by layer, and whose patch it carries"},
    {"wexlo extract gnomon-ota.zip --list", "the partitions in a package"},
    {"wexlo unpack init_boot-patched.img -o parts-to-read", "kernel, ramdisk and texts as files"},
};
constexpr Example kOwnImage[] = {
    {"wexlo insert plumbline-download.tar.md5 boot=plumbline-kit/flash/boot.img -o mine.tar.md5",
     "one image replaced, the package valid again"},
    {"wexlo inspect mine.tar.md5", "look at what came out"},
};

constexpr Task kTasks[] = {
    {"package", "I have a zip from the maker", "wexlo prepare FIRMWARE -r RECIPE -o KIT",
     "One command makes a kit: the patched images, the stock ones for the way back, and the "
     "steps. A sheet of the phone lets it refuse firmware that does not fit.",
     kPackage, "docs/tasks.md"},
    {"undo", "Take it back", "wexlo restore KIT -o FOLDER",
     "A patched image mostly carries what leads back to its stock bytes. A kit has the stock "
     "images in stock/, and the steps under \"The way back\" in plan.txt.",
     kUndo, "docs/undo.md"},
    {"no-start", "It does not start", "wexlo check KIT",
     "First see whether the images are valid and belong together. Then write the stock images "
     "back: that keeps the data in most cases.",
     kNoStart, "docs/trouble.md"},
    {"update", "An update came", "wexlo prepare FIRMWARE --like KIT -o KIT2",
     "Let the phone take the update on stock images, then patch the new build. Never write an "
     "older build's image onto a newer system.",
     kUpdate, "docs/tasks.md"},
    {"look", "What is this file?", "wexlo inspect FILE",
     "Any file or folder: a package, an image, a kit. Nothing is changed.", kLook,
     "docs/commands.md"},
    {"own-image", "My own image into their package", "wexlo insert FIRMWARE PARTITION=IMAGE -o OUT",
     "For phones that take whole packages: sums, sizes and names in the package are made valid "
     "again. The package that was given stays as it is.",
     kOwnImage, "docs/insert.md"},
};

}  // namespace

std::span<const Task> tasks() {
  return kTasks;
}

const Task* find_task(std::string_view name) {
  const auto* const task = std::ranges::find(kTasks, name, &Task::name);
  return task == std::end(kTasks) ? nullptr : task;
}

}  // namespace wexlo::cli
