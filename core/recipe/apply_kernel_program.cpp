/// A program that a recipe brings along changes the plain kernel: file in, file out. What it
/// changed is found by comparing the two, and accounted for as any other change.

#include <fmt/format.h>

#include <algorithm>

#include "base/differing.hpp"
#include "base/error_kinds.hpp"
#include "base/other_program.hpp"
#include "base/output.hpp"
#include "base/source.hpp"
#include "image/kernel.hpp"
#include "image/kernel_release.hpp"
#include "recipe/work.hpp"
#include "text/text.hpp"

namespace wexlo {
namespace {

constexpr std::uint64_t kMostKernel = 256u << 20;  ///< bytes; the largest real ones have 60 MiB
constexpr std::uint64_t kMostSaid = 64u << 10;
constexpr std::size_t kMostPlaces = 64;  ///< told one by one

constexpr std::string_view kNotTwice =
    "The program would change this kernel once more, and the image has no ramdisk that tells that "
    "it "
    "was done: patch the stock image again, never this one.";

std::string with_files(std::string word, const std::string& in, const std::string& out) {
  for (const auto& [name, file] : {std::pair(std::string("${in}"), in), {"${out}", out}})
    for (std::size_t at = 0; (at = word.find(name, at)) != word.npos; at += file.size())
      word.replace(at, name.size(), file);
  return word;
}

/// Which recipe, which program, and what of it.
Error program_error(const Work& work, const KernelProgramEdit& edit, Error what) {
  what.message = fmt::format("recipe {}: {}", work.edit->recipe, what.message);
  what.file = edit.from.shown;
  return what;
}

class KernelProgram {
 public:
  KernelProgram(Work& work, const KernelProgramEdit& edit) : work_(work), edit_(edit) {}

  /// What it makes of a kernel; the same bytes each time, or an error.
  Result<Bytes> run(View kernel) {
    WEXLO_TRY(Bytes first, run_once(kernel));
    WEXLO_TRY(const Bytes second, run_once(kernel));
    if (equal(first, second)) return first;
    const std::size_t common = std::min(first.size(), second.size());
    const std::size_t at =
        next_difference(View(first).first(common), View(second).first(common), 0);
    return fail(
        program_error(work_, edit_,
                      {.code = ErrorCode::BadValue,
                       .message = "the program made another kernel when it ran a second time",
                       .expected = "the same bytes for the same kernel",
                       .found = fmt::format("{} and {} bytes, which differ from byte 0x{:x} on",
                                            first.size(), second.size(), at),
                       .hint = "Give it what it draws by lot (a key, a time) as an argument."}));
  }

  /// Whether it would change its own result once more. One that refuses that does not.
  Result<bool> changes_again(View made) {
    const auto again = run_once(made);
    if (!again && is_of_this_run(again.error().code)) return fail(again.error());
    return again && !equal(*again, made);
  }

 private:
  Result<Bytes> run_once(View kernel) {
    WEXLO_TRY(const PrivateFolder folder, PrivateFolder::create("kernel-program"));
    const auto in = folder.path() / "kernel", out = folder.path() / "changed",
               said = folder.path() / "said", home = folder.path() / "program";
    const auto program = home / std::filesystem::path(edit_.from.from).filename();
    WEXLO_CHECK(write_new(in, kernel));
    std::error_code error;
    std::filesystem::create_directory(home, error);
    if (!error) {
      WEXLO_CHECK(write_new(program, edit_.from.content()));
      std::filesystem::permissions(program, std::filesystem::perms::owner_all, error);
    }
    if (error) return fail(io_error(error.value(), "cannot make the program ready", home.string()));
    ProgramCall call{.words = {program.string()},
                     .folder = home,
                     .patience = std::chrono::seconds(edit_.seconds),
                     .reach = Reach::Closed,
                     .said = said};
    for (const std::string& word : edit_.arguments)
      call.words.push_back(with_files(word, in.string(), out.string()));
    auto end = run_program(call, work_.context.stop);
    if (!end) return fail(not_started(std::move(end).error()));
    if (!end->ok()) return fail(failed(end->text(), said));
    const auto source = open_file(out.string());
    if (!source) return fail(failed("no file for the changed kernel", said));
    if ((*source)->size() == 0) return fail(failed("an empty kernel", said));
    if ((*source)->size() > kMostKernel)
      return fail(failed(fmt::format("{} bytes", (*source)->size()), said));
    return read_some(**source, 0, kMostKernel);
  }

  /// Named as the recipe names it: its copy is gone by then.
  Error not_started(Error error) const {
    if (error.code == ErrorCode::Interrupted) return error;
    error = program_error(work_, edit_, std::move(error));
    if (error.code == ErrorCode::Unsupported) return error;
    error.hint =
        "It has to be one file that this machine starts: a program for its processor, or a "
        "script whose first line names its interpreter. The folder for temporary files (TMPDIR) "
        "has to let programs start.";
    return error;
  }

  Error failed(std::string found, const std::filesystem::path& said) const {
    if (const std::string last = last_words(said); !last.empty())
      found += fmt::format("; it said: {}", last);
    return program_error(
        work_, edit_,
        {.code = ErrorCode::BadValue,
         .message = "the program did not change the kernel",
         .expected = fmt::format("exit code 0 within {} s, and a kernel of at most {} MiB in "
                                 "the file that ${{out}} names",
                                 edit_.seconds, kMostKernel >> 20),
         .found = std::move(found),
         .hint = "Try it by hand on kernel.image, which wexlo unpack writes. It has no network "
                 "here, and a plain environment."});
  }

  /// The end of what it printed, on one line.
  static std::string last_words(const std::filesystem::path& said) {
    const auto source = open_file(said.string());
    if (!source) return {};
    const std::uint64_t size = (*source)->size(), from = size > kMostSaid ? size - kMostSaid : 0;
    auto bytes = read_some(**source, from, kMostSaid);
    if (!bytes) return {};
    const std::string_view text = trimmed(as_text(*bytes));
    constexpr std::size_t kMostShown = 200;
    return std::string(text.substr(text.rfind('\n') + 1).substr(0, kMostShown));
  }

  Work& work_;
  const KernelProgramEdit& edit_;
};

/// Whether what came out is still a kernel for this phone.
Status check_kernel(const Work& work, const KernelProgramEdit& edit, const Blob& fresh,
                    const Blob& stock) {
  const DecodeLimit limit = decode_limit(work.context);
  const kernel::Kernel now = kernel::read(fresh, limit), old = kernel::read(stock, limit);
  const auto wrong = [&](std::string message, std::string expected, std::string found) -> Status {
    return fail(program_error(work, edit,
                              {.code = ErrorCode::Mismatch,
                               .message = std::move(message),
                               .expected = std::move(expected),
                               .found = std::move(found),
                               .hint = "The program broke it, or is for another kind of kernel."}));
  };
  if (!now.trouble.empty() && old.trouble.empty())
    return wrong("what the program made does not read as a kernel", "a kernel", now.trouble);
  if (now.architecture != old.architecture)
    return wrong("what the program made is a kernel for another processor", old.architecture,
                 now.architecture.empty() ? "none" : now.architecture);
  if (now.form != old.form)
    return wrong("what the program made is a kernel in another form", old.form, now.form);
  return {};
}

void tell_places(Work& work, View before, View after) {
  const auto part = [](View bytes, const DifferentPlace& place) {
    const std::size_t begin = std::min<std::size_t>(place.offset, bytes.size());
    return bytes.subspan(begin, std::min<std::size_t>(place.size, bytes.size() - begin));
  };
  const auto places = differing_at_most(before, after, kMostPlaces);
  std::uint64_t differ = 0;
  for (const DifferentPlace& place : places) {
    work.intent.kernel.push_back({place.offset, place.size, "changed by a recipe's program"});
    differ += place.size;
    const std::string where = fmt::format("kernel 0x{:x}", place.offset);
    const View was = part(before, place), is = part(after, place);
    work.detail(is.empty() ? fmt::format("{} (unpacked): {} bytes cut off", where, was.size())
                : was.empty()
                    ? fmt::format("{} (unpacked): {} bytes added at the end", where, is.size())
                    : fmt::format("{} (unpacked): {} bytes", where, is.size()));
    constexpr std::size_t kShown = 16;
    if (place.size <= kShown && !was.empty() && !is.empty())
      work.tell(where, hex(was), hex(is));
    else
      work.tell(where, was, is);
  }
  work.detail(
      fmt::format("{}, {} bytes of {}", counted(places.size(), "place"), differ, after.size()));
}

}  // namespace

Result<Outcome> apply(Work& work, const KernelProgramEdit& edit) {
  const Section* section = work.image.section("kernel");
  if (section == nullptr || section->bytes.empty()) return Outcome::NoMatch;
  // What it does to a kernel that it changed already nobody knows.
  if (work.is_known && !work.intent.replaced.contains("kernel")) return Outcome::AlreadyDone;
  if (!work.role.allow_programs)
    return fail(program_error(
        work, edit,
        {.code = ErrorCode::NeedsPerson,
         .message = "a program that it brings along would run here, and nobody allowed that",
         .expected = "the option --allow-programs",
         .found = "not given",
         .hint = "It runs with your rights: look who made it before you give the option."}));
  const Blob stock = section->bytes;
  WEXLO_TRY(const kernel::Body body, kernel::open_body(stock, decode_limit(work.context)));
  const View before = body.decoded.view();
  KernelProgram program(work, edit);
  WEXLO_TRY(Bytes made, program.run(before));
  if (equal(made, before)) return Outcome::AlreadyDone;
  // Without a ramdisk nothing in the image tells a later run that it was done.
  if (work.ramdisks.empty()) {
    WEXLO_TRY(const bool again, program.changes_again(made));
    if (again) work.note(std::string(kNotTwice));
  }
  const Blob fresh(std::move(made));
  WEXLO_CHECK(check_kernel(work, edit, fresh, body.decoded));
  tell_places(work, before, fresh.view());
  if (fresh.size() != before.size()) work.intent.kernel_size = fresh.size();
  WEXLO_TRY(Bytes packed, kernel::with_body(stock, body, fresh, work.context));
  WEXLO_CHECK(work.image.replace("kernel", Blob(std::move(packed))));
  return Outcome::Applied;
}

}  // namespace wexlo
