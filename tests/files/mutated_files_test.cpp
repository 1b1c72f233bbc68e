#include <doctest/doctest.h>

#include "heron/files/csv_file.hpp"
#include "heron/files/ground_file.hpp"
#include "heron/files/mapping_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/recording.hpp"
#include "heron/files/target_file.hpp"
#include "mutate.hpp"
#include "sanitized.hpp"
#include "support.hpp"

// Every reader takes thousands of broken files and answers each with a value or with one heron::Error.
using namespace heron;

namespace {

const int rounds = sanitized ? 150 : 1500;

/// How many of the broken files were refused; anything but an Error ends the test.
template <class Read>
int refused(const std::string& good, uint64_t seed, const Read& read) {
  render::Random random(seed);
  int count = 0;
  for (int i = 0; i < rounds; ++i) {
    const std::string bad = support::mutated(good, random);
    try {
      read(bad);
    } catch (const Error& error) {
      ++count;
      REQUIRE(std::string(error.what()).size() > 10);
    }
  }
  return count;
}

template <class Load>
int refused_file(const support::TemporaryFolder& folder, const std::string& name, uint64_t seed,
                 const Load& load) {
  const std::string path = folder / name, good = support::read_text(path);
  load(path);  // it is good as it stands
  return refused(good, seed, [&](const std::string& bad) {
    support::write_text(path, bad);
    load(path);
  });
}

MappingRecord any_record(bool camera) {
  MappingRecord r;
  if (camera)
    r.mapping = CameraMapping(CameraModel{{}, {Eigen::Quaterniond::Identity(), {1, 2, 300}}});
  else
    r.mapping = PlaneMapping(Homography(Eigen::Vector3d(4, -4, 1).asDiagonal()));
  r.width = 640, r.height = 480, r.date = "2026-01-01T00:00:00Z", r.pictures = {"a.png"};
  r.points = {{{1, 2}, {3, 4}, {0.01, -0.02}, 0}};
  r.board = BoardShape{};
  r.axes = Axes{{1, 2}};
  r.anchors = {{3, {1, 2}, WorldAngle{degrees(10)}, 22, 0, 0.01, 0.01, degrees(0.1)}};
  return r;
}

Image<uint8_t> any_picture() {
  Image<uint8_t> picture(60, 44);
  for (int y = 0; y < 44; ++y)
    for (int x = 0; x < 60; ++x)
      picture(x, y) = static_cast<uint8_t>(x > 20 && x < 44 && y > 12 && y < 30 ? 200 - x : 40 + y);
  return picture;
}

}  // namespace

TEST_CASE("mutated mappings, grounds, recordings and tables are refused or read, never worse") {
  const support::TemporaryFolder folder;
  save_mapping(folder / "plane.toml", any_record(false));
  save_mapping(folder / "camera.toml", any_record(true));
  const auto map = [](const std::string& path) { load_mapping(path); };
  CHECK(refused_file(folder, "plane.toml", 1, map) > rounds / 4);
  CHECK(refused_file(folder, "camera.toml", 2, map) > rounds / 4);

  GroundPlane ground;
  ground.width = 640, ground.height = 480;
  save_ground(folder / "ground.toml", ground);
  CHECK(refused_file(folder, "ground.toml", 3, [](const std::string& path) { load_ground(path); }) >
        rounds / 4);

  support::write_text(folder / "pairs.csv", "u,v,x,y\n1.5,2,3,4\n5,6,7,8\n-9,1e3,11,12\n");
  CHECK(refused_file(folder, "pairs.csv", 4, [](const std::string& path) {
          load_csv(path, {"u", "v", "x", "y"});
        }) > rounds / 8);

  save_picture(folder / "one.png", any_picture());
  save_picture(folder / "two.png", any_picture());
  Recording recording;
  recording.folder = folder.path();
  recording.pictures = {{"one.png"}, {"two.png"}};
  save_recording(recording);
  CHECK(refused_file(folder, "recording.toml", 5,
                     [&](const std::string&) { load_recording(folder.path()); }) > rounds / 4);
}

TEST_CASE("mutated pictures and targets are refused or read, never worse") {
  const support::TemporaryFolder folder;
  save_picture(folder / "p.png", any_picture());
  save_picture(folder / "p.tif", any_picture());
  for (const char* name : {"p.png", "p.tif"})
    CHECK(refused(support::read_text(folder / name), 6,
                  [&](const std::string& bad) { decode_picture(bad, name); }) > rounds / 4);
  save_target(folder / "t.png",
              teach_pattern(any_picture(), Region::rectangle({14, 8, 36, 28}), {.name = "t"}));
  CHECK(refused_file(folder, "t.png", 7, [](const std::string& path) { load_target(path); }) > rounds / 4);
}
