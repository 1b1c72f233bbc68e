#include <doctest/doctest.h>

#include "files/codecs.hpp"
#include "heron/files/atomic_file.hpp"
#include "heron/files/mapping_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/recording.hpp"
#include "heron/files/target_file.hpp"
#include "heron/render/random.hpp"
#include "support.hpp"

using namespace heron;
using support::TemporaryFolder;

namespace {

Image<uint8_t> box_picture() {
  Image<uint8_t> image(90, 80);
  for (int y = 0; y < 80; ++y)
    for (int x = 0; x < 90; ++x) image(x, y) = x > 20 && x < 70 && y > 25 && y < 60 ? 190 : 50;
  return image;
}

/// Bytes flipped, cut out and doubled; the file must be read or refused, never worse. The sanitizers watch.
template <class Read>
void survives(const std::string& whole, const std::string& path, int rounds, const Read& read) {
  render::Random random(whole.size());
  int refused = 0;
  for (int i = 0; i < rounds; ++i) {
    std::string bytes = whole;
    for (int k = random.whole(1, 4); k > 0 && !bytes.empty(); --k) {
      const auto at = static_cast<size_t>(random.whole(0, static_cast<int>(bytes.size()) - 1));
      switch (random.whole(0, 3)) {
        case 0:
          bytes[at] = static_cast<char>(random.whole(0, 255));
          break;
        case 1:
          bytes.erase(at, static_cast<size_t>(random.whole(1, 20)));
          break;
        case 2:
          bytes.insert(at, bytes.substr(at, 10));
          break;
        default:
          bytes.resize(at);
      }
    }
    write_file(path, bytes);
    try {
      read(path);
    } catch (const Error&) {
      ++refused;
    }
  }
  CHECK(refused > 0);
}

const PatternTarget& pattern_of(const LoadedTarget& loaded) { return *loaded.target.as<PatternTarget>(); }

}  // namespace

TEST_CASE("broken files of every kind are refused, never worse") {
  TemporaryFolder folder;
  const auto load = [](const std::string& path) { load_picture(path); };
  save_picture(folder / "a.png", box_picture().view());
  save_picture(folder / "a.tif", box_picture().view());
  survives(support::read_text(folder / "a.png"), folder / "b", 300, load);
  survives(support::read_text(folder / "a.tif"), folder / "b", 300, load);

  save_target(folder / "t.png", teach_pattern(box_picture(), Region::rectangle({10, 15, 70, 55})));
  survives(support::read_text(folder / "t.png"), folder / "b.png", 300,
           [](const std::string& path) { load_target(path); });

  MappingRecord record;
  record.width = 100, record.height = 80;
  record.date = "2026-01-01T00:00:00Z";
  for (int i = 0; i < 5; ++i) record.points.push_back({{1.5 * i, 2}, {3, 4}, {0, 0}});
  save_mapping(folder / "m.toml", record);
  survives(support::read_text(folder / "m.toml"), folder / "b.toml", 600,
           [](const std::string& path) { load_mapping(path); });

  std::filesystem::create_directories(folder / "r");
  save_picture(folder / "r/a.png", box_picture().view());
  save_recording({folder / "r", {{"a.png"}, {"a.png"}}});
  survives(support::read_text(folder / "r/recording.toml"), folder / "r/recording.toml", 300,
           [&](const std::string&) { load_recording(folder / "r"); });
}

TEST_CASE("a target edited in a paint program is noticed, and its edges follow") {
  TemporaryFolder folder;
  const PatternTarget target =
      teach_pattern(box_picture(), Region::rectangle({10, 15, 70, 55}), {.name = "box"});
  save_target(folder / "t.png", target);
  PngContent content = decode_png(read_file(folder / "t.png"), "t.png");
  REQUIRE(content.alpha);
  // Rub out the lower half, as a paint program would: pixels and text chunk stay, alpha goes.
  for (int y = 28; y < content.alpha->height(); ++y)
    std::fill_n(content.alpha->row(y), content.alpha->width(), uint8_t{0});
  write_file(folder / "e.png", encode_png(content.picture, &*content.alpha, content.texts));
  const LoadedTarget edited = load_target(folder / "e.png");
  CHECK(edited.edited);
  CHECK(edited.target.name() == "box");
  CHECK(pattern_of(edited).edges().size() < target.edges().size());
  for (const TaughtEdge& e : pattern_of(edited).edges())
    CHECK((e.place + edited.target.taught().origin).y < 28.5);

  // What lies under alpha 0 may be anything.
  auto& pixels = std::get<Image<uint8_t>>(content.picture.pixels);
  for (int y = 28; y < pixels.height(); ++y)
    for (int x = 0; x < pixels.width(); ++x) pixels(x, y) = static_cast<uint8_t>((x * 71 + y * 13) & 255);
  write_file(folder / "s.png", encode_png(content.picture, &*content.alpha, content.texts));
  CHECK(pattern_of(load_target(folder / "s.png")).edges().size() == pattern_of(edited).edges().size());

  // Everything rubbed out: nothing to hold on to, and said so.
  for (int y = 0; y < content.alpha->height(); ++y)
    std::fill_n(content.alpha->row(y), content.alpha->width(), uint8_t{0});
  write_file(folder / "n.png", encode_png(content.picture, &*content.alpha, content.texts));
  CHECK_THROWS_WITH_AS(load_target(folder / "n.png"), doctest::Contains("nothing to hold on to"), Error);
}

TEST_CASE(
    "a target whose settings a paint program has dropped, or that was resized, still serves, and says so") {
  TemporaryFolder folder;
  const PatternTarget target = teach_pattern(box_picture(), Region::rectangle({10, 15, 70, 55}),
                                             {.name = "box", .origin = Point2{20, 25}});
  save_target(folder / "box.png", target);
  const PngContent content = decode_png(read_file(folder / "box.png"), "box.png");
  write_file(folder / "bare.png", encode_png(content.picture, &*content.alpha, {}));
  const LoadedTarget bare = load_target(folder / "bare.png");
  CHECK(bare.settings_lost);
  CHECK(bare.target.name() == "bare");
  CHECK(bare.target.taught().origin == Point2{target.pixels().width() / 2.0, target.pixels().height() / 2.0});
  // Without transparency it is a picture like any other.
  write_file(folder / "flat.png", encode_png(content.picture, nullptr, {}));
  CHECK_THROWS_WITH_AS(load_target(folder / "flat.png"), doctest::Contains("no target"), Error);
  CHECK_FALSE(load_opaque(folder / "flat.png"));
  CHECK(load_opaque(folder / "bare.png"));

  const auto& pixels = std::get<Image<uint8_t>>(content.picture.pixels);
  Picture twice;
  Image<uint8_t> larger(2 * pixels.width(), 2 * pixels.height()), mask(larger.width(), larger.height());
  for (int y = 0; y < larger.height(); ++y)
    for (int x = 0; x < larger.width(); ++x) larger(x, y) = pixels(x / 2, y / 2), mask(x, y) = 255;
  twice.pixels = std::move(larger);
  write_file(folder / "twice.png", encode_png(twice, &mask, content.texts));
  const LoadedTarget resized = load_target(folder / "twice.png");
  CHECK(resized.resized);
  CHECK(resized.target.taught().origin.x == doctest::Approx(2 * target.origin().x + 0.5));
}

TEST_CASE("a target of another kind or version is refused by name") {
  TemporaryFolder folder;
  save_target(folder / "t.png", teach_pattern(box_picture(), Region::rectangle({10, 15, 70, 55})));
  const PngContent content = decode_png(read_file(folder / "t.png"), "t.png");
  const auto with = [&](const std::string& from, const std::string& to) {
    auto texts = content.texts;
    std::string& text = texts.begin()->second;
    REQUIRE(text.find(from) != std::string::npos);
    text.replace(text.find(from), from.size(), to);
    write_file(folder / "x.png", encode_png(content.picture, &*content.alpha, texts));
    try {
      load_target(folder / "x.png");
    } catch (const Error& error) {
      return std::string(error.what());
    }
    return std::string("no error");
  };
  CHECK(with("version = 1", "version = 3").find("this program reads version 1, a newer one is needed") !=
        std::string::npos);
  CHECK(with("\"pattern\"", "\"smell\"").find("it may be \"pattern\"") != std::string::npos);
  CHECK(with("min_score", "min_scores").find("did you mean 'min_score'?") != std::string::npos);
  CHECK(with("origin = [", "origin = [1.0, ").find("an array of 2 numbers") != std::string::npos);
  CHECK(with("count = \"all\"", "count = \"some\"").find("a whole number, or \"all\"") != std::string::npos);
  CHECK(with("scale = [1.0, 1.0]", "scale = [2.0, 1.0]").find("swapped") != std::string::npos);
  CHECK(with("count = \"all\"", "count = -4").find("count -4") != std::string::npos);
}
