#include "support/bytes.hpp"

#include <bzlib.h>
#include <lz4.h>
#include <lz4frame.h>
#include <lz4hc.h>
#include <lzma.h>
#include <stdlib.h>
#include <zlib.h>
#include <zstd.h>

#include <algorithm>
#include <cstdio>
#include <fstream>
#include <sstream>

#include "base/digest.hpp"

namespace wexlo::test {
namespace {

std::string number(std::uint64_t value, int bytes, bool big) {
  std::string out;
  for (int i = 0; i < bytes; ++i) {
    const int shift = 8 * (big ? bytes - 1 - i : i);
    out += static_cast<char>(value >> shift & 0xff);
  }
  return out;
}

}  // namespace

std::string le16(std::uint32_t value) {
  return le32(value).substr(0, 2);
}
std::string le32(std::uint32_t value) {
  return number(value, 4, false);
}
std::string le64(std::uint64_t value) {
  return number(value, 8, false);
}
std::string be32(std::uint32_t value) {
  return number(value, 4, true);
}
std::string be64(std::uint64_t value) {
  return number(value, 8, true);
}

std::uint32_t size32(const std::string& bytes) {
  return static_cast<std::uint32_t>(bytes.size());
}
std::string field(const std::string& text, std::size_t size) {
  std::string out = text.substr(0, size);
  out.resize(size);
  return out;
}

std::string padded(std::string bytes, std::size_t unit) {
  bytes.resize((bytes.size() + unit - 1) / unit * unit);
  return bytes;
}

std::string noise(std::size_t size, std::uint32_t seed) {
  std::string out(size, '\0');
  std::uint32_t state = seed * 2654435761u + 1;
  for (char& c : out) {
    state ^= state << 13;
    state ^= state >> 17;
    state ^= state << 5;
    c = static_cast<char>(state >> 11);
  }
  return out;
}

std::string gzip(const std::string& data, int level) {
  z_stream stream{};
  deflateInit2(&stream, level, Z_DEFLATED, 15 + 16, 8, Z_DEFAULT_STRATEGY);
  std::string out(deflateBound(&stream, data.size()) + 64, '\0');
  stream.next_in = reinterpret_cast<Bytef*>(const_cast<char*>(data.data()));
  stream.avail_in = static_cast<uInt>(data.size());
  stream.next_out = reinterpret_cast<Bytef*>(out.data());
  stream.avail_out = static_cast<uInt>(out.size());
  deflate(&stream, Z_FINISH);
  out.resize(stream.total_out);
  deflateEnd(&stream);
  return out;
}

std::string xz(const std::string& data, bool crc32, unsigned preset) {
  std::string out(lzma_stream_buffer_bound(data.size()), '\0');
  std::size_t size = 0;
  lzma_easy_buffer_encode(preset, crc32 ? LZMA_CHECK_CRC32 : LZMA_CHECK_CRC64, nullptr,
                          reinterpret_cast<const std::uint8_t*>(data.data()), data.size(),
                          reinterpret_cast<std::uint8_t*>(out.data()), &size, out.size());
  out.resize(size);
  return out;
}

std::string bzip2(const std::string& data) {
  std::string out(data.size() + data.size() / 50 + 1000, '\0');
  auto size = static_cast<unsigned>(out.size());
  BZ2_bzBuffToBuffCompress(out.data(), &size, const_cast<char*>(data.data()),
                           static_cast<unsigned>(data.size()), 9, 0, 0);
  out.resize(size);
  return out;
}

std::string lz4_legacy(const std::string& data, bool size_trailer) {
  constexpr std::size_t kBlock = 8u << 20;
  std::string out = le32(0x184C2102);
  for (std::size_t at = 0; at < data.size(); at += kBlock) {
    const std::string block = data.substr(at, kBlock);
    std::string packed(static_cast<std::size_t>(LZ4_compressBound(static_cast<int>(kBlock))), '\0');
    const int size =
        LZ4_compress_default(block.data(), packed.data(), static_cast<int>(block.size()),
                             static_cast<int>(packed.size()));
    out +=
        le32(static_cast<std::uint32_t>(size)) + packed.substr(0, static_cast<std::size_t>(size));
  }
  if (size_trailer) out += le32(static_cast<std::uint32_t>(data.size()));
  return out;
}

std::string lz4_block(const std::string& data, int level) {
  constexpr std::size_t kBlock = 8u << 20;
  std::string out = le32(0x184C2102);
  for (std::size_t at = 0; at < data.size(); at += kBlock) {
    const std::string block = data.substr(at, kBlock);
    std::string packed(static_cast<std::size_t>(LZ4_compressBound(static_cast<int>(kBlock))), '\0');
    const int size = LZ4_compress_HC(block.data(), packed.data(), static_cast<int>(block.size()),
                                     static_cast<int>(packed.size()), level);
    out +=
        le32(static_cast<std::uint32_t>(size)) + packed.substr(0, static_cast<std::size_t>(size));
  }
  return out;
}

std::string lz4_frame(const std::string& data, int level) {
  LZ4F_preferences_t wanted = LZ4F_INIT_PREFERENCES;
  wanted.compressionLevel = level;
  wanted.frameInfo.contentChecksumFlag = LZ4F_contentChecksumEnabled;
  std::string out(LZ4F_compressFrameBound(data.size(), &wanted), '\0');
  out.resize(LZ4F_compressFrame(out.data(), out.size(), data.data(), data.size(), &wanted));
  return out;
}

std::string lzma(const std::string& data, unsigned preset) {
  lzma_options_lzma options;
  lzma_lzma_preset(&options, preset);
  lzma_stream stream = LZMA_STREAM_INIT;
  const bool ready = lzma_alone_encoder(&stream, &options) == LZMA_OK;
  std::string out(data.size() * 2 + 4096, '\0');
  stream.next_in = reinterpret_cast<const std::uint8_t*>(data.data());
  stream.avail_in = data.size();
  stream.next_out = reinterpret_cast<std::uint8_t*>(out.data());
  stream.avail_out = out.size();
  if (!ready || lzma_code(&stream, LZMA_FINISH) != LZMA_STREAM_END) return {};
  out.resize(stream.total_out);
  lzma_end(&stream);
  return out;
}

std::string zstd(const std::string& data, int level) {
  std::string out(ZSTD_compressBound(data.size()), '\0');
  out.resize(ZSTD_compress(out.data(), out.size(), data.data(), data.size(), level));
  return out;
}

std::string sha1(const std::string& data) {
  return text(digest(DigestKind::Sha1, as_view(data)));
}
std::string sha256(const std::string& data) {
  return text(digest(DigestKind::Sha256, as_view(data)));
}
std::string hex_of(const std::string& raw) {
  return hex(as_view(raw));
}

CpioBytes& CpioBytes::entry(const std::string& name, const std::string& data, unsigned mode,
                            unsigned ino, unsigned nlink, unsigned uid, unsigned gid,
                            unsigned mtime, unsigned rmajor, unsigned rminor, bool upper) {
  char header[111];
  const char* format = upper ? "070701%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X"
                             : "070701%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x";
  std::snprintf(header, sizeof header, format, ino == 0 ? next_ino_++ : ino, mode, uid, gid, nlink,
                mtime, static_cast<unsigned>(data.size()), 0u, 0u, rmajor, rminor,
                static_cast<unsigned>(name.size() + 1), 0u);
  bytes_ += padded(std::string(header) + name + '\0', 4);
  bytes_ += padded(data, 4);
  return *this;
}

CpioBytes& CpioBytes::file(const std::string& name, const std::string& data, unsigned mode) {
  return entry(name, data, mode, 0, 1);
}
CpioBytes& CpioBytes::folder(const std::string& name) {
  return entry(name, "", 0040755, 0, 2);
}
CpioBytes& CpioBytes::link(const std::string& name, const std::string& target) {
  return entry(name, target, 0120777, 0, 1);
}
CpioBytes& CpioBytes::device(const std::string& name, unsigned major, unsigned minor) {
  return entry(name, "", 0020600, 0, 1, 0, 0, 0, major, minor);
}
CpioBytes& CpioBytes::trailer() {
  return entry("TRAILER!!!", "", 0, 0, 1);
}
CpioBytes& CpioBytes::zeros(std::size_t count) {
  bytes_ += std::string(count, '\0');
  return *this;
}
std::string CpioBytes::done() {
  trailer();
  return padded(bytes_, 256);
}

Blob blob(const std::string& bytes) {
  return Blob(to_bytes(bytes));
}
std::string text(View bytes) {
  return std::string(as_text(bytes));
}

TempDir::TempDir() {
  std::string name = (std::filesystem::temp_directory_path() / "wexlo-test-XXXXXX").string();
  path_ = ::mkdtemp(name.data());
}
TempDir::~TempDir() {
  std::error_code ignored;
  std::filesystem::remove_all(path_, ignored);
}
std::vector<std::string> TempDir::names() const {
  std::vector<std::string> out;
  for (const auto& entry : std::filesystem::recursive_directory_iterator(path_))
    out.push_back(entry.path().lexically_relative(path_).string());
  std::ranges::sort(out);
  return out;
}

void write(const std::filesystem::path& path, const std::string& bytes) {
  std::filesystem::create_directories(path.parent_path());
  std::ofstream(path, std::ios::binary) << bytes;
}
std::string read(const std::filesystem::path& path) {
  std::ostringstream out;
  out << std::ifstream(path, std::ios::binary).rdbuf();
  return out.str();
}

SourcePtr source_of(const std::string& bytes, const std::string& name) {
  return open_memory(blob(bytes), name);
}

}  // namespace wexlo::test
