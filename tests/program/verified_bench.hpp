#pragma once
/// What tests of verified boot share: replies with findings, and the invented phone's package.

#include "demo/gnomon.hpp"
#include "program/support.hpp"
#include "support/boot.hpp"

namespace wexlo::test {

/// With --json; an exit code 1 may come with a result: findings are no error.
inline Json judged(const TempDir& folder, std::vector<std::string> arguments, int wanted) {
  arguments.emplace_back("--json");
  const Ran ran = program(folder, std::move(arguments));
  CAPTURE(ran.out);
  CAPTURE(ran.err);
  CHECK(ran.exit_code == wanted);
  const Json document = Json::parse(ran.out);
  CHECK(document["ok"] == (wanted == 0));
  return document;
}

inline std::uint64_t be(const std::string& bytes, std::size_t at) {
  std::uint64_t out = 0;
  for (std::size_t i = 0; i < 8; ++i)
    out = out << 8 | static_cast<unsigned char>(bytes[at + i]);
  return out;
}

/// OpenSSL's program on a struct: the signature over header and auxiliary block.
inline bool openssl_agrees(const TempDir& dir, const std::string& structure, const std::string& pem,
                           const std::string& digest) {
  const std::uint64_t authentication = be(structure, 12), auxiliary = be(structure, 20);
  write(dir / "message",
        structure.substr(0, 256) + structure.substr(256 + authentication, auxiliary));
  write(dir / "signature", structure.substr(256 + be(structure, 48), be(structure, 56)));
  const Ran ran =
      run({"openssl", "dgst", "-" + digest, "-verify", pem, "-signature", "signature", "message"},
          dir.path().string());
  return ran.exit_code == 0 && ran.out.contains("Verified OK");
}

/// The invented phone's package, made once.
inline const TempDir& firmware() {
  static const TempDir dir;
  static const bool made =
      wexlo::demo::write_gnomon(dir / "ota.zip", {.size = wexlo::demo::FirmwareSize::Small},
                                {.jobs = 2})
          .has_value();
  REQUIRE(made);
  return dir;
}

}  // namespace wexlo::test
