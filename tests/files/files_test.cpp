#include <doctest/doctest.h>
#include <sys/resource.h>

#include <csignal>
#include <cstdio>
#include <functional>
#include <limits>
#include <nlohmann/json.hpp>

#include <jpeglib.h>

#include "heron/files/atomic_file.hpp"
#include "heron/files/csv_file.hpp"
#include "heron/files/input_budget.hpp"
#include "heron/files/mapping_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/recording.hpp"
#include "heron/files/report_json.hpp"
#include "heron/files/target_file.hpp"
#include "heron/files/toml_file.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "support.hpp"

using namespace heron;
using support::TemporaryFolder;

using support::contains;
using support::error_of;

namespace {

template <class T>
Image<T> ramp(int width, int height, double step) {
  Image<T> image(width, height);
  for (int y = 0; y < height; ++y)
    for (int x = 0; x < width; ++x) image(x, y) = static_cast<T>(step * (x + 3 * y));
  return image;
}

/// A bright L on dark ground: something to teach.
Image<uint8_t> letter(int width = 120, int height = 100) {
  Image<uint8_t> image(width, height);
  for (int y = 0; y < height; ++y)
    for (int x = 0; x < width; ++x)
      image(x, y) =
          (x > 30 && x < 50 && y > 20 && y < 80) || (x > 30 && x < 90 && y > 60 && y < 80) ? 180 : 40;
  return image;
}

template <class T>
void check_same(const Picture& picture, const Image<T>& expected) {
  REQUIRE(std::holds_alternative<Image<T>>(picture.pixels));
  const auto& image = std::get<Image<T>>(picture.pixels);
  REQUIRE(image.width() == expected.width());
  REQUIRE(image.height() == expected.height());
  bool same = true;
  for (int y = 0; y < image.height(); ++y)
    for (int x = 0; x < image.width(); ++x)
      same = same && (image(x, y) == expected(x, y) ||
                      (image(x, y) != image(x, y) && expected(x, y) != expected(x, y)));
  CHECK(same);
}

void write_jpeg(const std::string& path, int width, int height) {
  jpeg_compress_struct info{};
  jpeg_error_mgr errors{};
  info.err = jpeg_std_error(&errors);
  jpeg_create_compress(&info);
  FILE* file = std::fopen(path.c_str(), "wb");
  jpeg_stdio_dest(&info, file);
  info.image_width = static_cast<JDIMENSION>(width), info.image_height = static_cast<JDIMENSION>(height);
  info.input_components = 1, info.in_color_space = JCS_GRAYSCALE;
  jpeg_set_defaults(&info);
  jpeg_set_quality(&info, 95, TRUE);
  jpeg_start_compress(&info, TRUE);
  std::vector<uint8_t> row(static_cast<size_t>(width));
  for (int y = 0; y < height; ++y) {
    for (int x = 0; x < width; ++x) row[static_cast<size_t>(x)] = static_cast<uint8_t>(x + y);
    JSAMPROW p = row.data();
    jpeg_write_scanlines(&info, &p, 1);
  }
  jpeg_finish_compress(&info);
  jpeg_destroy_compress(&info);
  std::fclose(file);
}

}  // namespace

TEST_CASE("pictures come back as they were written") {
  TemporaryFolder folder;
  Picture picture;
  for (const char* ending : {".png", ".tif", ".tiff", ".PNG"}) {
    const std::string path = folder / (std::string("p") + ending);
    save_picture(path, ramp<uint8_t>(37, 21, 1).view());
    check_same(load_picture(path), ramp<uint8_t>(37, 21, 1));
    picture.pixels = ramp<uint16_t>(37, 21, 500);
    save_picture(path, picture);
    check_same(load_picture(path), ramp<uint16_t>(37, 21, 500));
    Image<Rgb> color(5, 4);
    color(3, 2) = {10, 20, 30};
    save_picture(path, color.view());
    check_same(load_picture(path), color);
  }
  Image<float> heights = ramp<float>(31, 17, 0.125);
  heights(3, 3) = std::numeric_limits<float>::quiet_NaN();
  picture.pixels = heights;
  save_picture(folder / "h.tif", picture);
  check_same(load_picture(folder / "h.tif"), heights);
  CHECK_FALSE(load_picture(folder / "h.tif").pitch_mm);
  picture.pitch_mm = Point2{0.2, 0.031};
  save_picture(folder / "p.tif", picture);
  const Picture with_pitch = load_picture(folder / "p.tif");
  check_same(with_pitch, heights);
  REQUIRE(with_pitch.pitch_mm);
  CHECK(with_pitch.pitch_mm->x == doctest::Approx(0.2).epsilon(1e-6));
  CHECK(with_pitch.pitch_mm->y == doctest::Approx(0.031).epsilon(1e-6));
  CHECK_THROWS_WITH_AS(save_picture(folder / "h.png", picture), doctest::Contains(".tif"), Error);
  CHECK_THROWS_WITH_AS(save_picture(folder / "h.bmp", picture), doctest::Contains(".png, .tif or .tiff"),
                       Error);
  write_jpeg(folder / "p.jpg", 64, 48);
  const Picture jpeg = load_picture(folder / "p.jpg");
  CHECK(jpeg.width() == 64);
  CHECK(std::abs(std::get<Image<uint8_t>>(jpeg.pixels)(20, 10) - 30) <= 2);
}

TEST_CASE("a missing, empty, cut, wrong or gigantic picture gives one clear error") {
  TemporaryFolder folder;
  save_picture(folder / "good.png", letter().view());
  save_picture(folder / "good.tif", letter().view());
  write_jpeg(folder / "good.jpg", 200, 100);
  CHECK(contains(error_of([&] { load_picture(folder / "none.png"); }), "No such file"));
  support::write_text(folder / "empty.png", "");
  CHECK(contains(error_of([&] { load_picture(folder / "empty.png"); }), "is empty"));
  support::write_text(folder / "text.png", "hello");
  CHECK(contains(error_of([&] { load_picture(folder / "text.png"); }), "neither PNG nor JPEG nor TIFF"));
  CHECK(contains(error_of([&] { load_picture(folder.path()); }), "is not a file"));
  for (const char* name : {"good.png", "good.tif", "good.jpg"}) {
    const std::string whole = support::read_text(folder / name);
    for (const size_t length : {whole.size() / 2, whole.size() - 30, size_t{12}}) {
      CAPTURE(name);
      CAPTURE(length);
      support::write_text(folder / "cut", whole.substr(0, length));
      CHECK(contains(error_of([&] { load_picture(folder / "cut"); }), "broken"));
    }
  }
  // A header that announces 60000 x 60000 pixels is refused before memory is taken.
  std::string png = support::read_text(folder / "good.png");
  png[18] = '\xea', png[19] = '\x60', png[22] = '\xea', png[23] = '\x60';
  const std::string chunk = png.substr(12, 17);
  uint32_t crc = 0xffffffffu;
  for (const char c : chunk) {
    crc ^= static_cast<unsigned char>(c);
    for (int k = 0; k < 8; ++k) crc = (crc >> 1) ^ (0xedb88320u & (0u - (crc & 1)));
  }
  crc ^= 0xffffffffu;
  for (int k = 0; k < 4; ++k) png[29 + static_cast<size_t>(k)] = static_cast<char>(crc >> (24 - 8 * k));
  support::write_text(folder / "giant.png", png);
  CHECK(contains(error_of([&] { load_picture(folder / "giant.png"); }), "60000 x 60000"));
}

TEST_CASE("a file is written whole or what stood there stays") {
  TemporaryFolder folder;
  write_file(folder / "a.txt", "first");
  // The disk is "full" after 1000 bytes: the limit on a file's size.
  rlimit before{};
  getrlimit(RLIMIT_FSIZE, &before);
  const rlimit small{1000, before.rlim_max};
  std::signal(SIGXFSZ, SIG_IGN);
  setrlimit(RLIMIT_FSIZE, &small);
  const std::string message = error_of([&] { write_file(folder / "a.txt", std::string(5000, 'x')); });
  setrlimit(RLIMIT_FSIZE, &before);
  CHECK(contains(message, "unchanged"));
  CHECK(support::read_text(folder / "a.txt") == "first");
  CHECK(folder.file_count() == 1);  // no half-written file beside it
  CHECK(contains(error_of([&] { write_file(folder / "no/such/folder.txt", "x"); }), "cannot be written"));
}

TEST_CASE("a target comes back with its edges, and an edit in a paint program is noticed and followed") {
  TemporaryFolder folder;
  PatternSettings settings{.name = "letter \"L\"", .origin = Point2{40.5, 70.25}};
  settings.options.angle = {-30_deg, degrees(45.5)};
  settings.options.min_score = 71.25;
  const PatternTarget target = teach_pattern(letter(), Region::rectangle({15, 8, 90, 86}), settings);
  save_target(folder / "t.png", target);
  const LoadedTarget back = load_target(folder / "t.png");
  CHECK_FALSE(back.edited);
  CHECK(back.target.name() == "letter \"L\"");
  CHECK(back.target.taught().origin == target.origin());
  CHECK(back.target.options().min_score == 71.25);
  CHECK(back.target.options().angle == settings.options.angle);
  REQUIRE(back.target.as<PatternTarget>()->edges().size() == target.edges().size());
  CHECK(back.target.as<PatternTarget>()->edges()[7].place == target.edges()[7].place);

  // It opens as a picture, with what was taught.
  CHECK(load_picture(folder / "t.png").width() == 90);

  // Erase the foot of the L: its edges are gone.
  Image<uint8_t> pixels = target.pixels(), mask = target.mask();
  for (int y = 45; y < mask.height(); ++y) std::fill_n(mask.row(y), mask.width(), uint8_t{0});
  const PatternTarget erased(pixels, mask, target.origin(), settings);
  save_target(folder / "e.png", erased);
  std::string bytes = support::read_text(folder / "e.png");
  const std::string original = support::read_text(folder / "t.png");
  const auto hash_at = [](const std::string& b) { return b.find("hash = \"") + 8; };
  // A text chunk ends with its checksum; a same-length change of the hash must be followed by the right one,
  // so take the reader's word instead.
  CHECK(bytes.substr(hash_at(bytes), 16) != original.substr(hash_at(original), 16));
  CHECK(load_target(folder / "e.png").target.as<PatternTarget>()->edges().size() < target.edges().size());
}

TEST_CASE("a picture that is no target says so") {
  TemporaryFolder folder;
  save_picture(folder / "p.png", letter().view());
  CHECK(contains(error_of([&] { load_target(folder / "p.png"); }), "is a picture but no target"));
  support::write_text(folder / "p.txt", "x");
  CHECK(contains(error_of([&] { load_target(folder / "p.txt"); }), "is no target"));
}

TEST_CASE("a mapping comes back to the last bit, and its errors name line and column") {
  TemporaryFolder folder;
  MappingRecord record;
  std::vector<BoardPoint> points;
  Homography truth;
  truth << 4.1, 0.2, 100, -0.3, -3.9, 900, 1e-4, -2e-4, 1;
  const BoardShape shape{.columns = 5, .rows = 4, .pitch_mm = 20};
  for (int j = 0; j < 4; ++j)
    for (int i = 0; i < 5; ++i)
      points.push_back(
          {i, j,
           apply(truth, shape.point(i, j)) + Point2{0.01 * ((i * 7 + j * 3) % 5), 0.01 * ((i + j) % 3)}});
  record = record_of(calibrate_plane(points, shape, 0, 1280, 1024));
  record.board = shape;
  record.width = 1280, record.height = 1024;
  record.pictures = {"a \"b\".png"};
  record.date = "2026-01-01T00:00:00Z";
  save_mapping(folder / "m.toml", record);
  const MappingRecord back = load_mapping(folder / "m.toml");
  CHECK(back.mapping.plane()->matrix() == record.mapping.plane()->matrix());
  CHECK(back.mapping.plane()->covariance() == record.mapping.plane()->covariance());
  CHECK(back.points.size() == 20);

  const std::string text = support::read_text(folder / "m.toml");
  const auto broken = [&](const std::string& from, const std::string& to) {
    return support::error_of_changed(text, from, to, folder / "b.toml",
                                     [](const std::string& path) { load_mapping(path); });
  };
  CHECK(contains(broken("rms_px", "rms_pix"), "'rms_px' is missing"));
  CHECK(contains(broken("version = 1", "version = 9"),
                 "b.toml:2:11: 'version' is 9; this program reads version 1"));
  CHECK(contains(broken("kind = \"plane\"", "kind = \"globe\""), "it may be \"plane\""));
  CHECK(contains(broken("columns = 5", "columns = \"five\""), "must be a whole number, not a text"));
  CHECK(contains(broken("columns = 5", "columns = 5\ncolums = 5"),
                 "'colums' is an unknown key; did you mean 'columns'?"));
  CHECK(contains(broken("[board]", "[board"), "b.toml:"));
  CHECK(contains(broken("date = ", "date = ,"), "b.toml:6:"));
}

TEST_CASE("a recording lists its pictures and notices a missing one") {
  TemporaryFolder folder;
  save_picture(folder / "one.png", letter().view());
  save_recording({folder.path(), {{"one.png"}}});
  CHECK(load_recording(folder.path()).path(0) == folder / "one.png");
  save_recording({folder.path(), {{"one.png"}, {"two.png"}}});
  CHECK(contains(error_of([&] { load_recording(folder.path()); }), "names two.png, which is not there"));
  support::write_text(folder / "recording.toml", "version = 1\n[[picture]]\nfile = \"../x.png\"\n");
  CHECK(contains(error_of([&] { load_recording(folder.path()); }), "inside the recording's folder"));
  support::write_text(folder / "recording.toml", "version = 1\npicture = []\n");
  CHECK(contains(error_of([&] { load_recording(folder.path()); }), "lists no pictures"));
  CHECK(contains(error_of([&] { load_recording(folder / "none"); }), "is no recording"));
}

TEST_CASE("rows of numbers, with a header or without") {
  TemporaryFolder folder;
  const std::vector<std::string> columns{"u", "v", "x", "y"};
  support::write_text(folder / "a.csv", "u,v,x,y\r\n1,2;3, 4\n\n# note\n5,6,7,8e1\n");
  const auto rows = load_csv(folder / "a.csv", columns);
  CHECK(rows == std::vector<std::vector<double>>{{1, 2, 3, 4}, {5, 6, 7, 80}});
  support::write_text(folder / "a.csv", "x; y; u; v\n3,4,1,2\n");
  CHECK(load_csv(folder / "a.csv", columns) == std::vector<std::vector<double>>{{1, 2, 3, 4}});
  const auto refused = [&](const std::string& text, const char* words) {
    support::write_text(folder / "b.csv", text);
    const std::string told = error_of([&] { load_csv(folder / "b.csv", columns); });
    CHECK_MESSAGE(contains(told, words), told);
  };
  refused("1,2,3,4\n1,2,3,4\n", "b.csv:1: a first line with the columns' names is missing: u,v,x,y");
  refused("u,v,x,y\n1,2,x,4\n", "b.csv:2: 'x' must be a number, not 'x'");
  refused("u,v,x,y\n1,2,3\n", "b.csv:2: 3 numbers; 4 are needed");
  refused("u,v,x,y\n1,2,nan,4\n", "b.csv:2: 'x' must be a number, not 'nan'");
  refused("u,v,x\n1,2,3\n", "'y' is a column that is missing");
  refused("u,v,x,x\n1,2,3,4\n", "'x' names two columns");
  refused("u,v,x,y,z\n1,2,3,4,5\n", "'z' is an unknown column");
  refused("# nothing\n", "is empty");
}

TEST_CASE("a report is one line of JSON whose numbers read back to the same double") {
  Report report;
  report.picture = "a\xff\n.png";
  ReportedPart part;
  part.detection.target = "leaf", part.detection.x = 0.1 + 0.2, part.detection.angle = degrees(-33.123456789),
  part.detection.range_end = {"angle"};
  part.world = UserPose{.x_mm = 1.0 / 3, .y_mm = 2, .z_mm = 0, .angle = WorldAngle{5_deg}, .sigma = {}};
  report.parts.push_back(part);
  report.misses.push_back({1, 2, 3_deg, 1, 57.3, {{"score", 57.3, "at least 60"}}});
  const std::string line = report_json(report);
  CHECK(line.find('\n') == std::string::npos);
  const auto json = nlohmann::json::parse(line);
  CHECK(json["found"][0]["x"].get<double>() == 0.1 + 0.2);
  CHECK(json["found"][0]["world"]["x"].get<double>() == 1.0 / 3);
  CHECK(json["misses"][0]["limits"][0]["name"] == "score");
  CHECK(json["found"][0]["range_end"][0] == "angle");
  // What is not known, and an angle that a part has not, are null.
  CHECK(json["found"][0]["sigma"]["x"].is_null());
  CHECK(json["found"][0]["world"]["sigma"]["angle"].is_null());
  CHECK(json["found"][0]["world"]["angle"].is_number());
  part.detection.has_angle = false;
  const auto round = nlohmann::json::parse(part_json(part));
  CHECK(round["angle"].is_null());
  CHECK(round["world"]["angle"].is_null());
}

TEST_CASE("a picture is read as far as the memory goes that an input may take") {
  TemporaryFolder folder;
  Image<Rgb> large(6000, 4000);  // 72 MB
  save_picture(folder / "large.png", large);
  CHECK(load_picture(folder / "large.png").width() == 6000);
  set_input_budget(size_t{128} << 20);
  const std::string why = error_of([&] { load_picture(folder / "large.png"); });
  set_input_budget(size_t{1} << 30);
  CHECK(contains(why, "unpacks to 68 MB; at most 32 MB"));
  CHECK(contains(why, "--memory"));
  CHECK_THROWS_AS(set_input_budget(1000), Error);
}
