/// What help and man pages say of each command. The examples run on the demo's data: a test runs
/// each of them in the folder that `wexlo demo --all` leaves.

#include <algorithm>
#include <iterator>

#include "command_table.hpp"

namespace wexlo::cli {
namespace {

constexpr std::string_view kJob = "The main job", kSee = "Look", kHand = "One step by hand",
                           kPackages = "Packages", kLearn = "Learn";

constexpr Example kPrepare[] = {
    {"wexlo prepare gnomon-ota.zip -r add-on/recipe.toml --sheet sheets/gnomon.toml -o my-kit",
     "the usual job: firmware, recipe and the phone's sheet to a kit"},
    {"wexlo prepare gnomon-ota.zip -r @verification-off -r add-on/recipe.toml --dry-run",
     "two recipes, in this order; only tell what would be done"},
    {"wexlo prepare gnomon-ota.zip --stock -o stock-kit", "no recipe: back to stock"},
};
constexpr Example kCheck[] = {
    {"wexlo check kit", "is a kit whole, and would the phone start it?"},
    {"wexlo check kit --remake gnomon-ota.zip",
     "was a kit that you were given made of this firmware, byte for byte?"},
    {"wexlo check init_boot-patched.img --against gnomon-ota.zip",
     "what was changed in an image, and does it go with the firmware?"},
};
constexpr Example kRehearse[] = {
    {"wexlo rehearse kit --against gnomon-ota.zip",
     "what will happen on the phone, step by step, and on the way back"},
    {"wexlo rehearse kit --sheet sheets/gnomon.toml --fault drop=100000",
     "on this very phone, with a link that drops while an image is sent"},
};
constexpr Example kFlash[] = {
    {"wexlo flash kit --phone fastboot+usb://", "play the plan on the phone at the bench"},
    {"wexlo flash kit --phone fastboot+tcp://localhost:5554 --dry-run",
     "ask the phone, and write nothing"},
    {"wexlo flash kit --phone fastboot+usb:// --back",
     "back to stock: what was written, and no more"},
};
constexpr Example kConfirm[] = {
    {"wexlo confirm kit phone.txt --no-record",
     "what was saved from the phone, held against the kit"},
    {"wexlo confirm --list .", "what was done to which phone, when, and did it take"},
};
constexpr Example kDiagnose[] = {
    {"wexlo diagnose kit phone.txt --symptom loops-at-once --against gnomon-ota.zip",
     "by the kit, what was saved of the phone, and what somebody sees"},
    {"wexlo diagnose init_boot-patched.img --against gnomon-ota.zip --symptom black-screen",
     "an image of somebody else's, on a phone that does not start"},
};
constexpr Example kPhones[] = {
    {"wexlo phones", "phones at their bootloader, over USB"},
    {"wexlo phones fastboot+tcp://localhost:5554", "the one at an address"},
};
constexpr Example kRestore[] = {
    {"wexlo restore init_boot-patched.img -o init_boot-stock.img",
     "the stock image, out of the patched one"},
    {"wexlo restore kit -o stock-again", "all stock images of a kit, each verified"},
};
constexpr Example kSheet[] = {
    {"wexlo sheet --props sheets/gnomon-properties.txt -o phone.toml",
     "from properties copied off the running phone"},
    {"wexlo sheet --props sheets/gnomon-properties.txt --over sheets/gnomon-notes.toml",
     "keep the notes of an older sheet; show the result"},
};
constexpr Example kBatch[] = {
    {"wexlo batch sheets/tray.toml --dry-run", "which kits could be made, for which phones"},
    {"wexlo batch sheets/tray.toml --force", "make them; replace those that are there"},
};
constexpr Example kInspect[] = {
    {"wexlo inspect gnomon-ota.zip", "a package: build, device, partitions"},
    {"wexlo inspect init_boot-patched.img", "an image: header, parts, whose patch it carries"},
};
constexpr Example kCompare[] = {
    {"wexlo compare images/init_boot.img init_boot-patched.img", "two images"},
    {"wexlo compare gnomon-ota-260805.zip gnomon-ota.zip", "two builds, partition by partition"},
};
constexpr Example kDraw[] = {
    {"wexlo draw init_boot-patched.img -o bytes.svg", "where every byte of an image belongs"},
    {"wexlo draw images/init_boot.img init_boot-patched.img -o changes.png",
     "what a patch changed"},
};
constexpr Example kExtract[] = {
    {"wexlo extract gnomon-ota.zip -o out", "the boot chain, each image verified"},
    {"wexlo extract gnomon-ota.zip init_boot -o my_init_boot.img", "one partition, to one file"},
    {"wexlo extract gnomon-ota-260805-to-260905.zip --all --base gnomon-ota-260805.zip -o new",
     "an incremental package, with the older build that it starts from"},
};
constexpr Example kInsert[] = {
    {"wexlo insert plumbline-download.tar.md5 boot=plumbline-kit/flash/boot.img -o mine.tar.md5",
     "one image replaced"},
    {"wexlo insert vernier-factory.zip boot=vernier-kit/flash/boot.img -o mine.zip",
     "in a zip in a zip: sizes, sums and lists of digests are renewed"},
};
constexpr Example kUnpack[] = {
    {"wexlo unpack images/init_boot.img -o my-parts", "files to edit, and parts.toml"},
    {"wexlo unpack images/vendor_boot.img -o vendor-parts", "each vendor ramdisk gets its folder"},
};
constexpr Example kRepack[] = {
    {"wexlo repack parts -o init_boot-mine.img", "put a parts folder together"},
    {"wexlo repack parts --dry-run", "only list what was edited"},
};
constexpr Example kPatch[] = {
    {"wexlo patch images/init_boot.img -r add-on/recipe.toml -o patched.img",
     "one image, by a recipe"},
    {"wexlo patch images/vbmeta.img -r @verification-off --dry-run",
     "a recipe that comes with Wexlo; only tell what would be done"},
};
constexpr Example kSeal[] = {
    {"wexlo seal images/vbmeta.img init_boot-patched.img --key my-key.pem -o sealed",
     "digests renewed and signed with your key"},
    {"wexlo seal init_boot-patched.img -o sealed-alone", "one image's own footer, without a key"},
};
constexpr Example kKeysNew[] = {
    {"wexlo keys new bench-key.pem", "a signing key, readable by you alone"},
    {"wexlo keys new small-key.pem --bits 2048 -o small-key.bin",
     "a shorter one, and its public side as a blob"},
};
constexpr Example kKeysShow[] = {
    {"wexlo keys show my-key.pem", "length and digests of its public side"},
    {"wexlo keys show my-key.pem --pem public.pem", "write the public side as PEM"},
};
constexpr Example kRecipes[] = {
    {"wexlo recipes", "the recipes that come with Wexlo"},
    {"wexlo recipes @verification-off", "show one"},
    {"wexlo recipes --check add-on/recipe.toml", "every mistake in a recipe of your own"},
};
constexpr Example kExplain[] = {
    {"wexlo explain patch-level", "a finding: its meaning, and what to do"},
    {"wexlo explain", "all codes"},
};
constexpr Example kHelp[] = {
    {"wexlo help undo", "a task: the way back"},
    {"wexlo help prepare", "a command"},
};
constexpr Example kComplete[] = {
    {"wexlo complete --script bash", "print the script; a shell loads it"},
    {"wexlo complete -- extract gnomon-ota.zip ini", "what could stand there"},
};
constexpr Example kDemo[] = {
    {"wexlo demo tour", "one phone, the whole job, step by step"},
    {"wexlo demo tour-all --all", "two older phones and an update, too"},
};

constexpr CommandPage kPages[] = {
    {"prepare", kJob, "firmware and recipes to a kit, ready to flash",
     "Reads the partitions that are needed out of the package, applies the recipes, proves what "
     "changed and that it can be undone, compares the firmware with the phone's sheet, and "
     "writes a kit: flash/, stock/, plan.txt, report.html. If something does not fit, no kit is "
     "made, and the reason is told.",
     kPrepare, "docs/formats/kit.md"},
    {"check", kJob, "are images valid, and would a phone start them?",
     "Looks at images, folders of them, firmware or kits: every digest, signature and rule of a "
     "start, for a locked and an unlocked phone. With --against it also tells what somebody "
     "changed.",
     kCheck, "docs/checks.md"},
    {"rehearse", kJob, "the plan, played on a simulated phone",
     "Plays every step of a kit's plan on a phone that is files in memory, starts it as a loader "
     "and a kernel would, and plays the way back. What would go wrong at the bench goes wrong "
     "here, with its reason. prepare does it by itself.",
     kRehearse, "docs/simulated-phone.md"},
    {"flash", kJob, "the plan, played on a phone",
     "Looks whether it is the right phone and ready, asks before anything is lost, and does one "
     "step after the other, with a log in the kit. It stops at the first failure, tells what the "
     "phone has now, the command that goes on, and the way back from there.",
     kFlash, "docs/flash.md"},
    {"confirm", kJob, "did it take? what the phone shows, held against the kit",
     "Reads what you saved or pasted from the phone after the flash, holds it against the kit, and "
     "says what is as planned, what is not, and what to ask next. The kit keeps a record of it.",
     kConfirm, "docs/confirm.md"},
    {"diagnose", kJob, "it does not start: likely causes, and the way back",
     "Looks at the images as a loader and a kernel would, beside their stock twins, at what the "
     "phone showed, its sheet and the flash log. It ranks causes by what speaks for and against "
     "each, and says one look and the way back.",
     kDiagnose, "docs/diagnose.md"},
    {"phones", kJob, "which phones answer",
     "Lists the phones at their bootloader: over USB, or at the addresses given, with mode, "
     "serial number, product and lock state.",
     kPhones, "docs/flash.md"},
    {"restore", kJob, "the stock image again, from a patched one or a kit",
     "Undoes a patch of Wexlo byte for byte: from the image alone where it carries its way back, "
     "else with the stock image that was kept. Of a kit, the stock images are verified and "
     "copied.",
     kRestore, "docs/undo.md"},
    {"sheet", kJob, "what is known of one phone, as a file",
     "Reads properties pasted from a running phone, or a bootloader's variables, and writes the "
     "phone's sheet. prepare --sheet compares firmware with it.",
     kSheet, "docs/formats/sheet.md"},
    {"batch", kJob, "a tray of phones: many kits in one go",
     "Does what prepare does for each row of a file. A pattern of firmware names meets a pattern "
     "of sheets: each phone gets the firmware that fits it.",
     kBatch, "docs/formats/tray.md"},

    {"inspect", kSee, "what a file or folder is, layer by layer",
     "Tells the kind, what is packed in it, the build, the partitions, the parts of an image, and "
     "whether it was patched. Nothing is written.",
     kInspect, "docs/formats/packages.md"},
    {"compare", kSee, "what differs between two images, folders or packages",
     "Lists each difference in the words of the format (a file in the ramdisk, a header field, a "
     "descriptor), and what it means.",
     kCompare, "docs/origin.md"},
    {"draw", kSee, "a figure: bytes, changes, super, the chain, a payload",
     "Draws to scale what the tables tell, as SVG, PNG or PDF.", kDraw, "docs/commands.md"},

    {"extract", kPackages, "partitions out of a package, verified",
     "Takes images out of firmware of any nesting without unpacking the rest, and verifies each "
     "by what the package promises. Without names it takes the boot chain.",
     kExtract, "docs/formats/packages.md"},
    {"insert", kPackages, "your images into a package, which stays valid",
     "Writes a new package with other images in it; sums, sizes and digests that name them are "
     "renewed. The given package is never changed.",
     kInsert, "docs/insert.md"},

    {"unpack", kHand, "an image to a folder that any editor can change",
     "Takes a boot image apart: each part a file, the ramdisk a plain tree with owners and modes "
     "in tree.list beside it.",
     kUnpack, "docs/formats/parts.md"},
    {"repack", kHand, "a parts folder to an image",
     "Lists what was edited, and puts the image together. Parts that nobody touched keep their "
     "bytes.",
     kRepack, "docs/formats/parts.md"},
    {"patch", kHand, "recipes to one image",
     "Applies recipes to one image alone, and accounts for every byte that differs.", kPatch,
     "docs/recipes.md"},
    {"seal", kHand, "digests, hash trees, footers and signatures renewed",
     "Makes verified-boot data true again after images were changed, and signs with your key. "
     "Images that belong together are given together.",
     kSeal, "docs/verified-boot.md"},
    {"recipes", kHand, "recipes that come with Wexlo; mistakes in your own",
     "Lists the bundled recipes, shows one, or reads a recipe file and tells every mistake in it.",
     kRecipes, "docs/recipes.md"},
    {"keys new", kHand, "make a signing key", "Writes an RSA key as PEM, readable by you alone.",
     kKeysNew, "docs/verified-boot.md"},
    {"keys show", kHand, "a key's public side",
     "Shows length and digests of a key, and writes its public side.", kKeysShow,
     "docs/verified-boot.md"},

    {"help", kLearn, "a task or a command, with examples",
     "Shows what to do for a task, or what a command takes.", kHelp, "README.md"},
    {"explain", kLearn, "what a finding or an error means, and what to do",
     "Looks a code up: what it means, why it matters, what to do.", kExplain, "docs/codes.md"},
    {"demo", kLearn, "made-up phones, and the whole job on them",
     "Makes the firmware of invented phones in a folder and does the job, command by command.",
     kDemo, "docs/tasks.md"},
    {"complete", kLearn, "what could stand at the end of a command line",
     "For shells: prints the words that complete the last one given, one a line, or the script "
     "that a shell loads.",
     kComplete, "docs/commands.md"},
};

}  // namespace

std::span<const CommandPage> command_pages() {
  return kPages;
}

const CommandPage* find_page(std::string_view name) {
  const auto* const page = std::ranges::find(kPages, name, &CommandPage::name);
  return page == std::end(kPages) ? nullptr : page;
}

}  // namespace wexlo::cli
