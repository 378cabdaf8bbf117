/// Options of `prepare` in pairs, on the three phones and an update: no signal, a whole reply, and
/// every plan can be played forward and back on a phone made of its own words.

#include "demo/gnomon.hpp"
#include "demo/phones.hpp"
#include "kit/folder/kit.hpp"
#include "program/bench.hpp"
#include "support/plan_phone.hpp"
#include "support/rounds.hpp"
#include "support/served.hpp"

namespace wexlo::test {
namespace fs = std::filesystem;
using Json = wexlo::test::Json;

namespace {

/// One value of each option.
using Choice = std::vector<std::size_t>;

struct Option {
  std::string name;
  std::vector<std::string> values;
};

const std::vector<Option> kOptions{
    {"phone", {"gnomon", "vernier", "plumbline", "update"}},
    {"recipes", {"put", "flags", "both", "like", "stock"}},
    {"with", {"none", "small", "large", "both"}},
    {"install", {"none", "payload", "plain"}},
    {"key", {"none", "key"}},
    {"sheet", {"none", "sheet"}},
    {"slots", {"", "current", "both"}},
    {"wipe", {"no", "yes"}},
    {"form", {"text", "json"}},
};

/// Choices in which every two values of every two options meet: each time the one that brings most
/// of what is missing, out of some that go by chance.
std::vector<Choice> pairs() {
  std::set<std::array<std::size_t, 4>> missing;
  for (std::size_t a = 0; a < kOptions.size(); ++a)
    for (std::size_t b = a + 1; b < kOptions.size(); ++b)
      for (std::size_t i = 0; i < kOptions[a].values.size(); ++i)
        for (std::size_t j = 0; j < kOptions[b].values.size(); ++j)
          missing.insert({a, i, b, j});
  const auto brings = [&](const Choice& one) {
    std::vector<std::array<std::size_t, 4>> out;
    for (std::size_t a = 0; a < one.size(); ++a)
      for (std::size_t b = a + 1; b < one.size(); ++b)
        if (missing.contains({a, one[a], b, one[b]})) out.push_back({a, one[a], b, one[b]});
    return out;
  };
  Random random(7);
  std::vector<Choice> out;
  while (!missing.empty()) {
    Choice best;
    for (int tries = 0; tries < 60; ++tries) {
      Choice one;
      for (const Option& option : kOptions)
        one.push_back(random() % option.values.size());
      // What is missing is in it.
      const auto& wanted = *missing.begin();
      one[wanted[0]] = wanted[1];
      one[wanted[2]] = wanted[3];
      if (best.empty() || brings(one).size() > brings(best).size()) best = one;
    }
    for (const auto& pair : brings(best))
      missing.erase(pair);
    out.push_back(best);
  }
  return out;
}

std::string word(const Choice& choice, const std::string& option) {
  for (std::size_t i = 0; i < kOptions.size(); ++i)
    if (kOptions[i].name == option) return kOptions[i].values[choice[i]];
  return {};
}

/// A phone's sheet with the sizes of the small firmware.
std::string as_small(const std::string& name, std::string sheet) {
  int changed = 0;
  for (const char* size : {"= 0x1000000\n", "= 0xC00000\n"})
    for (std::size_t at = 0; (at = sheet.find(size, at)) != sheet.npos; ++changed)
      sheet.replace(at, std::string(size).size(), "= 0x400000\n");
  if (name == "vernier.toml" || name == "plumbline.toml") REQUIRE(changed > 1);
  return sheet;
}

struct Shop {
  Shop() {
    REQUIRE(demo::write_vernier(dir / "vernier.zip", demo::FirmwareSize::Small, {.jobs = 2}));
    REQUIRE(
        demo::write_plumbline(dir / "plumbline.tar.md5", demo::FirmwareSize::Small, {.jobs = 2}));
    for (const auto& [name, text] : demo::bench_files())
      write(dir / name, as_small(name, std::string(text)));
    write(dir / "gnomon-new.zip",
          gnomon.ota("korvale/gnomon/gnomon:16/KV3A.2/20261005:user/release-keys"));
    write(dir / "gnomon.zip", gnomon.ota());
    write(dir / "gnomon.toml", Bench::sheet());
    write(dir / "put.toml", kRecipe);
    write(dir / "flags.toml", kFlags);
    write(dir / "hello", elf("arm64", "the add-on"));
    write(dir / "large.img", noise(3u << 20));
    write(dir / "plain.zip", zip({{"system.new.dat", "x"}}));
    REQUIRE(program(dir, {"keys", "new", "key.pem", "--bits", "2048"}).exit_code == 0);
    for (const char* phone : {"gnomon", "vernier", "plumbline"}) {
      const Ran ran =
          program(dir, {"prepare", firmware(phone), "-r", "put.toml", "--set", "arch=arm64",
                        "--accept", "vbmeta-needed", "-o", std::string("old-") + phone});
      REQUIRE_MESSAGE(ran.exit_code == 0, ran.err);
      REQUIRE(program(dir, {"extract", firmware(phone), "boot", "-o", std::string("out-") + phone})
                  .exit_code == 0);
    }
  }
  static std::string phone_of(const std::string& word) {
    return word == "update" ? "gnomon" : word;
  }
  static std::string firmware(const std::string& word) {
    return word == "update"      ? "gnomon-new.zip"
           : word == "plumbline" ? "plumbline.tar.md5"
                                 : word + ".zip";
  }

  [[nodiscard]] std::vector<std::string> words(const Choice& choice) const {
    const std::string phone = word(choice, "phone"), own = phone_of(phone);
    std::vector<std::string> out{"prepare", firmware(phone)};
    const auto add = [&](std::initializer_list<std::string> more) {
      out.insert(out.end(), more.begin(), more.end());
    };
    const std::string recipes = word(choice, "recipes"), with = word(choice, "with");
    if (recipes == "put" || recipes == "both") add({"-r", "put.toml"});
    if (recipes == "flags" || recipes == "both") add({"-r", "flags.toml"});
    if (recipes == "like") add({"--like", "old-" + own});
    if (recipes == "stock") add({"--stock"});
    if (with == "small" || with == "both") add({"--with", "boot=out-" + own + "/boot.img"});
    if (with == "large" || with == "both") add({"--with", "system=large.img"});
    if (word(choice, "install") == "payload") add({"--install", "gnomon-new.zip"});
    if (word(choice, "install") == "plain") add({"--install", "plain.zip"});
    if (word(choice, "key") == "key") add({"--key", "key.pem"});
    if (word(choice, "sheet") == "sheet") add({"--sheet", own + ".toml"});
    if (!word(choice, "slots").empty()) add({"--slots", word(choice, "slots")});
    if (word(choice, "wipe") == "yes") add({"--wipe"});
    if (word(choice, "form") == "json") add({"--json"});
    return out;
  }

  Bench gnomon;
  TempDir dir;
};

/// As the kit's own facts say.
PlanPhone phone_of(const KitManifest& kit, const std::string& slot) {
  PlanPhone out;
  PhoneState& phone = out.state;
  phone.slotted = kit.slotted.value_or(true);
  phone.slot = slot;
  phone.variables = {{"product", kit.device}, {"anti", "0"}};
  for (const KitImage& one : kit.images)
    for (const char* of_slot : {"", "_a", "_b"}) {
      if (one.is_logical()) continue;
      out.partitions[one.partition + of_slot] = "stock";
      out.sizes[one.partition + of_slot] = std::max<std::uint64_t>(one.size(), 64u << 20);
    }
  if (!kit.super) return out;
  std::uint64_t taken = 0;
  for (const LogicalPartition& one : kit.super->before.partitions) {
    out.logical[one.name] = one.size;
    out.partitions[one.name] = "stock";
    taken += one.size;
  }
  out.super = kit.super->before.size;
  if (out.super == 0) out.super = taken + (64u << 20);
  return out;
}

/// Made once: it packs two phones' firmware.
const Shop& the_shop() {
  static const Shop shop;
  return shop;
}

void play(const Shop& shop, const std::string& kit_name) {
  const Kit kit = value_of(Kit::open(shop.dir / kit_name));
  const Plan plan = value_of(kit.plan());
  // The phones' sheets differ in the slot that they start from.
  std::string slot = "a";
  for (const Step& one : plan.steps)
    if (const auto* expect = one.get<act::Expect>();
        expect != nullptr && expect->variable == "current-slot")
      slot = expect->value.substr(0, expect->value.find('|'));
  PlanPhone phone = phone_of(kit.manifest(), slot);
  phone.state.gives_back = ReadingBack::Nowhere;
  // The same over a wire.
  WirePhoneServed served(phone.made(), Wire::Tcp);
  FastbootPhone client = served.client();
  const auto over_wire = [&](const std::vector<Step>& steps) {
    ServedHands hands(served, {.kit = {},
                               .stock = {},
                               .package = {},
                               .instead = [](SimulatedPhone&, const Step&) { return Status(); }});
    const Played played = wexlo::play(steps, client, hands, files_of_plan(steps));
    CHECK_MESSAGE(played.done(), (played.done() ? "" : describe(*played.error)));
    WordPhone out;
    const std::lock_guard mine(served.turn);
    out.take(served.phone());
    return out;
  };
  for (const auto* steps : {&plan.steps, &plan.back}) {
    phone.play(*steps);
    CHECK(phone.state.mode == PhoneMode::System);
    const WordPhone wired = over_wire(*steps);
    CHECK(wired.partitions == phone.partitions);
    CHECK(wired.logical == phone.logical);
    CHECK(wired.state.slot == phone.state.slot);
    CHECK(wired.state.mode == phone.state.mode);
    CHECK(wired.state.data == phone.state.data);
  }
}

}  // namespace

TEST_CASE("prepare: options in pairs on every phone: whole replies, and plans that can be played") {
  const Shop& shop = the_shop();
  const auto choices = pairs();
  REQUIRE(choices.size() >= 20);
  std::size_t made = 0, number = 0;
  for (const Choice& choice : choices) {
    if (watched() && ++number % 4 != 0) continue;
    auto words = shop.words(choice);
    std::string shown;
    for (const std::string& one : words)
      shown += one + " ";
    CAPTURE(shown);
    const bool json = word(choice, "form") == "json";
    // Dry, then with what it asks to be accepted, then for good.
    auto dry = words;
    dry.insert(dry.end(), {"--dry-run", "--json"});
    if (json) dry.pop_back();
    const Ran first = program(shop.dir, dry);
    CAPTURE(first.out);
    REQUIRE(first.exit_code < 7);
    REQUIRE(Json::accept(first.out));
    const Json said = Json::parse(first.out);
    for (const Json& one : said["findings"])
      if (one["level"] == "problem")
        words.insert(words.end(), {"--accept", one["code"].get<std::string>()});
    if (said["result"].contains("fit"))
      for (const Json& row : said["result"]["fit"])
        if (row["level"] == "problem")
          words.insert(words.end(), {"--accept", row["code"].get<std::string>()});
    words.insert(words.end(), {"-o", "kit", "--force"});
    const Ran ran = program(shop.dir, words);
    CAPTURE(ran.out);
    CAPTURE(ran.err);
    CHECK(ran.exit_code < 7);
    if (json) CHECK(Json::accept(ran.out));
    if (ran.exit_code != 0) {
      CHECK((json ? ran.out : ran.err).size() > 20);
      continue;
    }
    ++made;
    play(shop, "kit");
    const Ran checked = program(shop.dir, {"check", "kit", "--json"});
    CHECK((checked.exit_code == 0 || checked.exit_code == 1));
    for (const Json& one : Json::parse(checked.out)["findings"])
      CHECK(one["code"] != "kit-file");
  }
  // Of the few that are played under the sanitizers, chance decides how many make a kit.
  CHECK(made > (watched() ? 0 : choices.size() / 4));
}

TEST_CASE("prepare: a package to the other slot and a logical image in one plan: refused, why") {
  const Shop& shop = the_shop();
  write(shop.dir / "sheet.toml",
        Bench::sheet("[super]\nsize = 6291456\n[[logical]]\nname = \"system_a\"\nsize = 2097152\n"
                     "[[logical]]\nname = \"product_a\"\nsize = 1048576\n"
                     "[[logical]]\nname = \"system_b\"\nsize = 0\n"));
  const std::vector<std::string> with{"--with",  "system=large.img", "--wipe",
                                      "--sheet", "sheet.toml",       "--accept",
                                      "build",   "--accept",         "given-system"};
  for (const std::vector<std::string>& how :
       {std::vector<std::string>{"--like", "old-gnomon"},
        std::vector<std::string>{"-r", "put.toml", "--install", "gnomon-new.zip"}}) {
    std::vector<std::string> words{"prepare", "gnomon-new.zip", "-o", "refused"};
    if (how[0] == "-r") words[1] = "gnomon.zip";
    words.insert(words.end(), how.begin(), how.end());
    words.insert(words.end(), with.begin(), with.end());
    // Some problems are found when others are accepted.
    for (int round = 0; round < 4; ++round) {
      auto dry = words;
      dry.insert(dry.end(), {"--json", "--dry-run"});
      const Json said = Json::parse(program(shop.dir, dry).out);
      std::vector<Json> lists{said["findings"]};
      if (said["result"].contains("fit")) lists.push_back(said["result"]["fit"]);
      for (const Json& list : lists)
        for (const Json& one : list)
          if (one["level"] == "problem" && !one.value("accepted", false))
            words.insert(words.end(), {"--accept", one["code"].get<std::string>()});
    }
    const Json said = program_json(shop.dir, words, 1);
    CAPTURE(said["error"].dump());
    CHECK(said["error"]["code"] == "does-not-fit");
    CHECK(said["error"]["message"].get<std::string>().find("other slot") != std::string::npos);
    CHECK_FALSE(fs::exists(shop.dir / "refused"));
  }
}

}  // namespace wexlo::test
