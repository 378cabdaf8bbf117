#pragma once
/// Builders for test inputs. They share no code with the product's writers, or one wrong fact would
/// pass both.

#include <filesystem>
#include <random>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "base/source.hpp"

namespace wexlo::test {

inline constexpr std::uint64_t kMiB = 1u << 20;

/// Numbers that look random, and are the same in every run.
class Random {
 public:
  explicit Random(std::uint32_t seed) : engine_(seed) {}
  std::uint32_t operator()() { return static_cast<std::uint32_t>(engine_()); }

 private:
  std::mt19937 engine_;
};

/// Little- or big-endian numbers, written out by hand.
[[nodiscard]] std::string le16(std::uint32_t value);
[[nodiscard]] std::string le32(std::uint32_t value);
[[nodiscard]] std::string le64(std::uint64_t value);
[[nodiscard]] std::string be32(std::uint32_t value);
[[nodiscard]] std::string be64(std::uint64_t value);
[[nodiscard]] std::uint32_t size32(const std::string& bytes);
[[nodiscard]] std::string field(const std::string& text, std::size_t size);  ///< zero filled
[[nodiscard]] std::string padded(std::string bytes, std::size_t unit);       ///< to a multiple

/// Bytes that follow no pattern a compressor knows, the same in each run.
[[nodiscard]] std::string noise(std::size_t size, std::uint32_t seed = 1);

[[nodiscard]] std::string gzip(const std::string& data, int level = 6);
[[nodiscard]] std::string xz(const std::string& data, bool crc32 = true, unsigned preset = 6);
[[nodiscard]] std::string bzip2(const std::string& data);
[[nodiscard]] std::string lz4_legacy(const std::string& data, bool size_trailer = false);
[[nodiscard]] std::string lz4_block(const std::string& data, int level);  ///< legacy, at a level
[[nodiscard]] std::string lz4_frame(const std::string& data, int level = 9);
[[nodiscard]] std::string lzma(const std::string& data, unsigned preset = 6);
[[nodiscard]] std::string zstd(const std::string& data, int level = 9);
[[nodiscard]] std::string sha1(const std::string& data);    ///< raw bytes
[[nodiscard]] std::string sha256(const std::string& data);  ///< raw bytes
[[nodiscard]] std::string hex_of(const std::string& raw);

/// A cpio archive, entry by entry.
class CpioBytes {
 public:
  CpioBytes& file(const std::string& name, const std::string& data, unsigned mode = 0100644);
  CpioBytes& folder(const std::string& name);
  CpioBytes& link(const std::string& name, const std::string& target);
  CpioBytes& device(const std::string& name, unsigned major, unsigned minor);
  /// Every field; `ino` 0 counts up.
  CpioBytes& entry(const std::string& name, const std::string& data, unsigned mode, unsigned ino,
                   unsigned nlink, unsigned uid = 0, unsigned gid = 0, unsigned mtime = 0,
                   unsigned rmajor = 0, unsigned rminor = 0, bool upper = false);
  CpioBytes& trailer();
  CpioBytes& zeros(std::size_t count);
  [[nodiscard]] std::string done();  ///< with a trailer, padded to 256
  [[nodiscard]] std::string raw() const { return bytes_; }

 private:
  std::string bytes_;
  unsigned next_ino_ = 1;
};

[[nodiscard]] Blob blob(const std::string& bytes);
[[nodiscard]] std::string text(View bytes);

class TempDir {
 public:
  TempDir();
  TempDir(const TempDir&) = delete;
  TempDir& operator=(const TempDir&) = delete;
  ~TempDir();
  [[nodiscard]] const std::filesystem::path& path() const { return path_; }
  [[nodiscard]] std::filesystem::path operator/(const std::string& name) const {
    return path_ / name;
  }
  /// Names of everything in it, sorted: that nothing was left over.
  [[nodiscard]] std::vector<std::string> names() const;

 private:
  std::filesystem::path path_;
};
void write(const std::filesystem::path& path, const std::string& bytes);
[[nodiscard]] std::string read(const std::filesystem::path& path);

/// A file in memory.
[[nodiscard]] SourcePtr source_of(const std::string& bytes, const std::string& name = "x.img");

}  // namespace wexlo::test
