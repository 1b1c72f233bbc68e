#include <doctest/doctest.h>
#include <sys/stat.h>

#include <filesystem>
#include <functional>

#include "heron/base/error.hpp"
#include "heron/files/atomic_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/target_file.hpp"
#include "heron/files/toml_file.hpp"
#include "heron/locate/target.hpp"
#include "support.hpp"

using namespace heron;
namespace fs = std::filesystem;

namespace {

std::string told(const std::function<void()>& action) {
  try {
    action();
  } catch (const Error& error) {
    return error.what();
  }
  return {};
}

std::string refused_toml(const std::string& text) {
  return told([&] { TomlTable::parse(text, "file.toml", 1); });
}

bool says(const std::string& text, const char* words) { return text.find(words) != std::string::npos; }

/// Big-endian, as PNG wants it.
std::string four(uint32_t v) {
  return {static_cast<char>(v >> 24), static_cast<char>(v >> 16), static_cast<char>(v >> 8),
          static_cast<char>(v)};
}

uint32_t crc_of(const std::string& bytes) {  // ISO 3309, as in the PNG standard's annex
  uint32_t crc = 0xffffffffu;
  for (const char c : bytes) {
    crc ^= static_cast<uint8_t>(c);
    for (int k = 0; k < 8; ++k) crc = (crc & 1) ? 0xedb88320u ^ (crc >> 1) : crc >> 1;
  }
  return ~crc;
}

std::string chunk(const std::string& name_and_data) {
  return four(static_cast<uint32_t>(name_and_data.size() - 4)) + name_and_data + four(crc_of(name_and_data));
}

}  // namespace

TEST_CASE("text that is nested too deeply, is no UTF-8 or holds numbers beyond all is refused") {
  const auto repeated = [](const std::string& part, int times) {
    std::string all;
    for (int i = 0; i < times; ++i) all += part;
    return all;
  };
  CHECK(says(refused_toml("version = 1\na" + repeated(".a", 31000) + " = 1\n"),
             "file.toml:2: nested more than"));
  CHECK(says(refused_toml("version = 1\n\"a\"" + repeated(".\"a\"", 31000) + " = 1\n"), "nested more than"));
  CHECK(says(refused_toml("version = 1\na = " + std::string(100000, '[')), "nested more than"));
  CHECK(says(refused_toml("version = 1\na = " + repeated("{b=", 50000)), "nested more than"));
  CHECK(says(refused_toml("version = 1\na = \"\xff\"\n"), "no UTF-8"));
  CHECK(says(refused_toml("version = 1 # \xc0\xaf\n"), "no UTF-8"));
  CHECK(says(refused_toml("version = -9223372036854775808\n"), "whole number"));
  // Brackets and dots in strings and remarks are no nesting.
  const std::string marks = std::string(100, '[') + std::string(100, '.');
  for (const std::string quotes : {"\"", "'", "\"\"\"", "'''"}) {
    const std::string text = "version = 1 # " + marks + "\nname = " + quotes + marks + quotes + "\n";
    CHECK(TomlTable::parse(text, "f", 1).text("name") == marks);
  }
  CHECK(TomlTable::parse("version = 1\nname = \"a \\\" " + marks + "\"\n", "f", 1).text("name") ==
        "a \" " + marks);
}

TEST_CASE("a few bytes that announce a huge picture are refused before memory is taken") {
  const support::TemporaryFolder folder;
  const std::string head = chunk("IHDR" + four(16000) + four(16000) + std::string("\x08\0\0\0\0", 5));
  support::write_text(folder / "bomb.png", "\x89PNG\r\n\x1a\n" + head + chunk("IDAT") + chunk("IEND"));
  const std::string words = told([&] { load_picture(folder / "bomb.png"); });
  CHECK_MESSAGE((says(words, "too few for them") || says(words, "at most")), words);
}

TEST_CASE("outputs: links stay, devices are written into, the mode stays, no other file is overwritten") {
  const support::TemporaryFolder folder;
  write_file(folder / "real.txt", "old");
  ::chmod(std::string(folder / "real.txt").c_str(), 0640);
  fs::create_symlink("real.txt", folder / "link.txt");
  write_file(folder / "link.txt", "new");
  CHECK(fs::is_symlink(folder / "link.txt"));
  CHECK(support::read_text(folder / "real.txt") == "new");
  CHECK((fs::status(folder / "real.txt").permissions() & fs::perms::mask) == static_cast<fs::perms>(0640));
  fs::create_symlink("made.txt", folder / "dangling.txt");
  write_file(folder / "dangling.txt", "made");
  CHECK(support::read_text(folder / "made.txt") == "made");
  // A device and a pipe are what they were.
  write_file("/dev/null", "nothing");
  CHECK(fs::is_character_file("/dev/null"));
  CHECK(says(told([] { write_file("/dev/full", "something"); }), "/dev/full"));
  REQUIRE(::mkfifo(std::string(folder / "pipe").c_str(), 0600) == 0);
  CHECK(says(told([&] { write_file(folder / "pipe", "x"); }), "cannot be written into"));
  CHECK(fs::is_fifo(folder / "pipe"));
  CHECK(says(told([&] { read_file(folder / "pipe"); }), "is not a file"));
  CHECK(says(told([&] { write_file(folder.path(), "x"); }), "is a folder"));
  // Somebody's link where new content is written first leads nowhere.
  support::write_text(folder / "victim.txt", "mine");
  fs::create_symlink("victim.txt", folder / "real.txt.part");
  write_file(folder / "real.txt", "newer");
  CHECK(support::read_text(folder / "victim.txt") == "mine");
  CHECK(support::read_text(folder / "real.txt") == "newer");
  fs::remove(folder / "real.txt.part");
  // What a writer left that was stopped in the middle is gone after the next.
  support::write_text(folder / "real.txt.part", "half");
  write_file(folder / "real.txt", "whole");
  CHECK_FALSE(fs::exists(folder / "real.txt.part"));
  CHECK(support::read_text(folder / "real.txt") == "whole");
}

TEST_CASE("a setting of a target that is not allowed names the target's file") {
  const support::TemporaryFolder folder;
  Image<uint8_t> picture(120, 100);
  for (int y = 0; y < 100; ++y)
    for (int x = 0; x < 120; ++x) picture(x, y) = x > 30 && x < 90 && y > 25 && y < 70 ? 200 : 60;
  const Region region = Region::rectangle({20, 15, 80, 65});
  save_target(folder / "plate.png",
              teach_target("pattern", {.grey = picture, .region = region}, {.name = "plate"}));
  std::string bytes = read_file(folder / "plate.png");
  const size_t at = bytes.find("min_score = 50.0");
  REQUIRE(at != std::string::npos);
  bytes.replace(at, 16, "min_score = 500 ");  // as long as before
  const size_t name = bytes.rfind("iTXt", at);
  const auto byte = [&](size_t i) { return static_cast<size_t>(static_cast<uint8_t>(bytes[name - 4 + i])); };
  const size_t size = 4 + (byte(0) << 24 | byte(1) << 16 | byte(2) << 8 | byte(3));
  bytes.replace(name + size, 4, four(crc_of(bytes.substr(name, size))));
  support::write_text(folder / "plate.png", bytes);
  const std::string words = told([&] { load_target(folder / "plate.png"); });
  CHECK_MESSAGE((says(words, "plate.png") && says(words, "500")), words);
}
