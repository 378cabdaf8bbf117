/// A signer that is another program: keys on a token never come near this process.

#include <fmt/format.h>

#include <utility>

#include "base/digest.hpp"
#include "base/other_program.hpp"
#include "base/output.hpp"
#include "base/source.hpp"
#include "text/toml_write.hpp"
#include "verified/key.hpp"
#include "verified/vbmeta.hpp"

namespace wexlo::verified {
namespace {

constexpr auto kPatience = std::chrono::minutes(1);  ///< a token may ask its owner for a touch
constexpr std::size_t kMaxSignature = 4096;

class ProgramSigner final : public Signer {
 public:
  ProgramSigner(std::filesystem::path program, Bytes key, const Context& context)
      : Signer(std::move(key)), program_(std::move(program)), stop_(context.stop) {}

 private:
  Result<Bytes> make(DigestKind kind, View digest) const override {
    WEXLO_TRY(const PrivateFolder folder, PrivateFolder::create("signing"));
    const auto request = folder.path() / "request.toml", answer = folder.path() / "answer.bin";
    const std::string text = request_text(kind, digest);
    WEXLO_CHECK(write_new(request, as_view(text)));
    WEXLO_TRY(const ProgramEnd end,
              run_program({.words = {program_.string(), request.string(), answer.string()},
                           .patience = kPatience},
                          stop_));
    if (!end.ok()) return fail(failed(end.late ? "no answer for a minute" : end.text()));
    const auto source = open_file(answer);
    if (!source) return fail(failed("no answer file"));
    if ((*source)->size() > kMaxSignature)
      return fail(failed(fmt::format("more than {} bytes", kMaxSignature)));
    return read_some(**source, 0, kMaxSignature);
  }

  [[nodiscard]] std::string request_text(DigestKind kind, View digest) const {
    const auto algorithm = algorithm_for(kind, bits());
    TomlWriter out;
    out.comment("What is to be signed. The bare signature goes into the file named second.");
    out.number("format", 1).text("algorithm", algorithm_name(algorithm ? algorithm->id : 0));
    out.text("digest", hex(digest)).text("key_sha256", sha256_hex(public_key()));
    return out.str();
  }

  Error failed(std::string found) const {
    return {.code = ErrorCode::Io,
            .message = "the signer failed",
            .file = program_.string(),
            .expected = "exit code 0 and the signature in the answer's file",
            .found = std::move(found),
            .hint =
                "What it says of it stands above; try it by hand: PROGRAM REQUEST.toml "
                "ANSWER.bin."};
  }

  std::filesystem::path program_;
  std::stop_token stop_;
};

}  // namespace

SignerPtr program_signer(std::filesystem::path program, Bytes public_key, const Context& context) {
  return std::make_shared<ProgramSigner>(std::move(program), std::move(public_key), context);
}

}  // namespace wexlo::verified
