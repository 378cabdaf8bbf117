/// Sealing from files to files.

#include "judge/phone_set.hpp"
#include "seal/seal.hpp"

namespace wexlo {
namespace fs = std::filesystem;
namespace {}  // namespace

Result<Sealed> seal(const std::vector<std::string>& images, const SealOptions& options,
                    const fs::path& folder, const Context& context) {
  std::vector<PhoneSet> sets(images.size());
  std::vector<SealInput> inputs;
  std::vector<std::string> paths_read;
  for (std::size_t i = 0; i < images.size(); ++i) {
    // NAME=FILE, where the file does not tell whose it is.
    const std::size_t equals = images[i].find('=');
    std::error_code ignored;
    const bool named = equals != std::string::npos && !fs::exists(images[i], ignored);
    const std::string path = named ? images[i].substr(equals + 1) : images[i];
    const std::string name = named ? images[i].substr(0, equals) : "";
    if (named) WEXLO_CHECK(check_partition_name(name));
    paths_read.push_back(path);
    WEXLO_CHECK(sets[i].add_image(path, name, context));
    const PhoneSet::Member& member = sets[i].members().front();
    if (member.name.empty())
      return fail({.code = ErrorCode::Usage,
                   .message = "nothing tells which partition this image is for",
                   .file = path,
                   .hint = "Write its name in front: system=FILE."});
    WEXLO_TRY(SourcePtr source, sets[i].source(member, context));
    inputs.push_back({member.name, std::move(source)});
  }
  WEXLO_TRY(MadeFolders made, MadeFolders::make(folder));
  // All of them, or none: each gets its final name when the last one is whole.
  std::vector<std::unique_ptr<OutputFile>> files;
  std::vector<std::unique_ptr<ImageSink>> sinks;
  const OpenSink open = [&](const std::string& partition) -> Result<ImageSink*> {
    WEXLO_CHECK(check_partition_name(partition));
    const std::filesystem::path target = folder / (partition + ".img");
    WEXLO_CHECK(check_not_input(target, paths_read));
    WEXLO_TRY(OutputFile file, OutputFile::create(target, options.overwrite));
    files.push_back(std::make_unique<OutputFile>(std::move(file)));
    sinks.push_back(file_sink(*files.back()));
    return sinks.back().get();
  };
  WEXLO_TRY(Sealed out, seal_images(inputs, options, open, context));
  std::uint64_t total = 0;
  for (const SealedImage& one : out.images)
    total += one.size;
  const Flush flush = total <= kMostWaitedFor ? Flush::Wait : Flush::Leave;
  for (const auto& file : files)
    WEXLO_CHECK(file->commit(flush));
  made.keep();
  for (SealedImage& one : out.images)
    one.file = one.partition + ".img";
  return out;
}

}  // namespace wexlo
