// A station learns what is usual, and warns of slow changes with their likely cause.
#include "heron/station/drift.hpp"
#include "patience.hpp"

#include <doctest/doctest.h>
#include <fmt/format.h>

#include "heron/files/report_json.hpp"
#include "heron/image/smooth.hpp"
#include "heron/locate/target.hpp"
#include "heron/render/random.hpp"
#include "heron/report/watched.hpp"
#include "station_cell.hpp"

using namespace station_cell;
using support::contains;
using support::error_of;

namespace {

std::vector<DriftWarning> after(DriftWatch& watch, int pictures,
                                const std::function<std::map<std::string, double>(int)>& of) {
  std::vector<DriftWarning> warnings;
  for (int i = 0; i < pictures; ++i) warnings = watch.take(of(i));
  return warnings;
}

/// Of a quantity. What time a picture takes is the test machine's affair.
const DriftWarning* of(const Report& report, const char* quantity) {
  for (const DriftWarning& w : report.drift)
    if (w.quantity == quantity) return &w;
  return nullptr;
}

/// The tray's first picture again and again, darker by a share with each once it begins.
class FadingCamera : public Camera {
 public:
  FadingCamera(int pictures, int begins, double fade, Point2 shift = {})
      : picture_(load_picture(cell().tray.path("tray/tray-01.png"))),
        pictures_(pictures),
        begins_(begins),
        fade_(fade),
        shift_(shift) {}
  CameraInfo info() const override { return {.address = "fading", .name = "fading"}; }
  std::optional<Picture> take() override {
    if (taken_ >= pictures_) return std::nullopt;
    const double light = 1 - fade_ * std::max(0, taken_ - begins_);
    const bool shifted = taken_ >= begins_;
    ++taken_;
    Picture picture;
    picture.name = std::to_string(taken_);
    const Image<uint8_t> as = grey_levels(picture_);
    Image<uint8_t> now(as.width(), as.height());
    for (int y = 0; y < as.height(); ++y)
      for (int x = 0; x < as.width(); ++x) {
        const int u = shifted ? std::clamp(x + static_cast<int>(shift_.x), 0, as.width() - 1) : x;
        now(x, y) = static_cast<uint8_t>(light * as(u, y) + 0.5 * (1 + taken_ % 2));
      }
    picture.pixels = std::move(now);
    return picture;
  }

 private:
  Picture picture_;
  int pictures_, begins_, taken_ = 0;
  double fade_;
  Point2 shift_;
};

/// The tray's first picture, after 25 of them more and more out of focus, or noisier.
class WorseningCamera : public Camera {
 public:
  explicit WorseningCamera(bool blurs, double noise = 2) : blurs_(blurs), noise_(noise) {}
  CameraInfo info() const override { return {.address = "worsening", .name = "worsening"}; }
  std::optional<Picture> take() override {
    if (taken_ >= 55) return std::nullopt;
    const double worse = std::max(0, taken_++ - 25) / 30.0;
    const Image<float> exact =
        smooth(picture_, 0.8 + (blurs_ ? worse : 0));  // without the picture's own noise
    Image<uint8_t> now(exact.width(), exact.height());
    for (int y = 0; y < now.height(); ++y)
      for (int x = 0; x < now.width(); ++x)
        now(x, y) = static_cast<uint8_t>(std::clamp(
            exact(x, y) + (noise_ + (blurs_ ? 0 : 3 * worse)) * random_.normal() + 0.5, 0.0, 255.0));
    Picture picture;
    picture.name = std::to_string(taken_);
    picture.pixels = std::move(now);
    return picture;
  }

 private:
  Image<uint8_t> picture_ = grey_levels(load_picture(cell().tray.path("tray/tray-01.png")));
  bool blurs_;
  double noise_;
  int taken_ = 0;
  render::Random random_{7};
};

const std::string to_nobody = "connect = \"127.0.0.1:1\"\nmode = \"push\"";

StationFile watched_station(const std::string& drift, std::vector<std::string>& told) {
  std::string text = cell().text(cell().fixed(), to_nobody);
  text.insert(text.find("[link]"), "[drift]\nlearn = 20\nmemory = 5\n" + drift);
  StationFile file = cell().station("quick = true\n" + text);
  file.setup.camera = "fading";
  file.link.warn = [&](const std::string& what) { told.push_back(what); };
  return file;
}

}  // namespace

TEST_CASE("a steady cell never warns, also when its values follow each other") {
  render::Random random(4);
  DriftWatch watch({.learn = 500, .memory = 50});
  double slow = 0;
  int warned = 0;
  for (int i = 0; i < 100000; ++i) {
    slow = 0.8 * slow + 0.6 * random.normal();  // neighbours correlate by 0.8
    warned +=
        !watch.take({{watched::score, 95 + random.normal()}, {watched::brightness, 120 + 2 * slow}}).empty();
  }
  CHECK(warned == 0);
}

TEST_CASE("a fading lamp gives a warning with its cause, long before parts are lost") {
  render::Random random(5);
  DriftWatch watch({.learn = 200, .memory = 50});
  const auto usual = [&](int) {
    return std::map<std::string, double>{{watched::score, 96 + random.normal()},
                                         {watched::contrast, 60 + random.normal()},
                                         {watched::brightness, 150 + random.normal()}};
  };
  CHECK(after(watch, 199, usual).empty());
  CHECK(watch.learning());
  CHECK(after(watch, 200, usual).empty());
  CHECK_FALSE(watch.learning());
  int told_at = 0;
  std::vector<DriftWarning> warnings;
  for (int i = 1; i <= 400 && told_at == 0; ++i) {  // a thousandth each
    auto now = usual(0);
    now[watched::brightness] *= 1 - 0.001 * i, now[watched::contrast] *= 1 - 0.001 * i;
    warnings = watch.take(now);
    if (warnings.size() == 2) told_at = i;
  }
  CHECK(told_at > 20);
  CHECK(told_at < 100);  // nine tenths of the light
  for (const DriftWarning& w : warnings)
    CHECK(contains(w.cause,
                   w.quantity == watched::brightness ? "the lamp fades" : "the light has changed as well"));
  // Back to what it was.
  CHECK(after(watch, 300, usual).empty());
}

TEST_CASE("the cause follows from what moved together") {
  const auto cause = [](const std::map<std::string, double>& before,
                        const std::map<std::string, double>& now) {
    DriftWatch watch({.learn = 20, .memory = 5});
    after(watch, 20, [&](int) { return before; });
    const auto warnings = after(watch, 50, [&](int) { return now; });
    return warnings.empty() ? std::string("none") : warnings.front().cause;
  };
  CHECK(contains(cause({{watched::contrast, 60}}, {{watched::contrast, 50}}), "out of focus or dirty"));
  CHECK(contains(cause({{watched::score, 96}}, {{watched::score, 90}}), "not as they were taught"));
  CHECK(contains(cause({{watched::reference_x, 400}}, {{watched::reference_x, 400.2}}), "calibrate again"));
  CHECK(contains(cause({{watched::reference_seen, 1}}, {{watched::reference_seen, 0}}),
                 "covered, dirty or gone"));
  CHECK(contains(cause({{watched::measured, 0.95}}, {{watched::measured, 0.8}}), "sees less"));
  CHECK(contains(cause({{watched::elapsed_ms, 40}}, {{watched::elapsed_ms, 90}}), "busy"));
  CHECK(contains(cause({{watched::brightness, 100}}, {{watched::brightness, 130}}), "stray light"));
  CHECK(cause({{watched::score, 96}}, {{watched::score, 95.5}}) == "none");  // nobody cares
  CHECK(cause({{watched::score, NAN}}, {{watched::score, NAN}}) == "none");
}

TEST_CASE("a quantity that hovers at its limit gives one warning") {
  DriftWatch watch({.learn = 20, .memory = 5});
  after(watch, 20, [](int) { return std::map<std::string, double>{{watched::score, 96}}; });
  int begun = 0;
  bool beyond = false;
  for (int i = 0; i < 400; ++i) {  // the average swings about 95, which is the limit
    const bool now = !watch.take({{watched::score, 95 + 0.5 * std::sin(0.3 * i)}}).empty();
    begun += now && !beyond;
    beyond = now;
  }
  CHECK(begun == 1);
  CHECK(after(watch, 30, [](int) { return std::map<std::string, double>{{watched::score, 96}}; }).empty());
}

TEST_CASE("what was learned outlives the watch; what is broken is refused") {
  DriftWatch watch({.learn = 30, .memory = 5});
  after(watch, 25, [](int i) { return std::map<std::string, double>{{watched::score, 90 + i % 3}}; });
  DriftWatch again({.learn = 30, .memory = 5}, watch.learned());
  CHECK(again.learning());
  CHECK(again.usual().at(watched::score).mean == watch.usual().at(watched::score).mean);
  after(again, 5, [](int i) { return std::map<std::string, double>{{watched::score, 90 + i % 3}}; });
  CHECK_FALSE(again.learning());
  for (const char* broken :
       {"{", "{}", "{\"usual\":{\"score\":{}}}", "[]",
        "{\"usual\":{\"score\":{\"count\":0,\"mean\":1,\"squares\":1,\"average\":1,\"largest\":1}}}"})
    CHECK(contains(error_of([&] { DriftWatch({}, broken, "d.json"); }), "d.json"));
  CHECK(contains(error_of([&] { DriftWatch({.learn = 5}); }), "at least 20"));
}

TEST_CASE("a station says what drifts, in its report, to its operator, and to its machine") {
  std::vector<std::string> told;
  Station station(watched_station("light = [100, 100, 300, 200]\n", told),
                  std::make_unique<FadingCamera>(70, 25, 0.004));
  station.begin_dry_run();
  std::optional<Report> last;
  while (auto report = station.next()) {
    CHECK(report->watched.contains(watched::brightness));
    last = std::move(report);
  }
  REQUIRE(last);
  REQUIRE(of(*last, watched::brightness));
  const Report read = report_of_json(report_json(*last), "here");
  REQUIRE(read.drift.size() == last->drift.size());
  CHECK(read.drift[0].cause == last->drift[0].cause);
  CHECK(read.watched == last->watched);
  CHECK(std::any_of(told.begin(), told.end(),
                    [](const auto& t) { return contains(t, "brightness drifts: "); }));
  const auto count =
      std::count_if(told.begin(), told.end(), [](const auto& t) { return contains(t, "brightness"); });
  CHECK(count == 1);  // once, not with each picture
  CHECK(std::get<double>(field_of(sent_of(*last, 0), "drift")) == static_cast<double>(last->drift.size()));
}

TEST_CASE("a reference that moves says that the camera did") {
  // The reference is one of the tray's leaves, searched in a small region.
  const Target leaf = load_target(cell().tray.path("leaf.png")).target;
  const auto seen =
      find(leaf, PreparedPicture(grey_levels(load_picture(cell().tray.path("tray/tray-01.png")))));
  REQUIRE_FALSE(seen.detections.empty());
  FindOptions near = leaf.options();
  near.region = Region::rectangle(Point2{seen.detections[0].x, seen.detections[0].y}, 60, 60, Angle{});
  save_target(cell().tray.path("reference.png"), leaf.with(near));
  std::vector<std::string> told;
  Station station(watched_station("reference = \"reference.png\"\n", told),
                  std::make_unique<FadingCamera>(40, 25, 0, Point2{2, 0}));
  station.begin_dry_run();
  std::optional<Report> last;
  while (auto report = station.next()) last = std::move(report);
  REQUIRE(last);
  const DriftWarning* moved = of(*last, watched::reference_x);
  REQUIRE(moved);
  CHECK(moved->value - moved->usual == doctest::Approx(-2).epsilon(0.05));
  CHECK(contains(moved->cause, "calibrate again"));
  CHECK_FALSE(of(*last, watched::reference_y));
}

TEST_CASE("with quality a lens out of focus is noticed, and noise, before parts are lost") {
  for (const bool blurs : {true, false}) {
    CAPTURE(blurs);
    std::vector<std::string> told;
    Station station(watched_station("quality = true\n", told), std::make_unique<WorseningCamera>(blurs));
    station.begin_dry_run();
    std::optional<Report> last;
    while (auto report = station.next()) {
      CHECK(report->parts.size() == 5);
      last = std::move(report);
    }
    REQUIRE(last);
    CHECK(last->watched.at(watched::saturation) < 0.1);
    const DriftWarning* worse = of(*last, blurs ? watched::sharpness : watched::noise);
    REQUIRE(worse);
    CHECK(worse->value > worse->usual);
    CHECK(contains(worse->cause, blurs ? "out of focus" : "gain"));
    CHECK_FALSE(of(*last, blurs ? watched::noise : watched::sharpness));
    CHECK_FALSE(of(*last, watched::brightness));
    CHECK(std::none_of(told.begin(), told.end(), [](const auto& t) { return contains(t, "poor"); }));
  }
}

TEST_CASE("light that is poor when learning begins is named at once") {
  std::vector<std::string> told;
  Station station(watched_station("quality = true\n", told), std::make_unique<WorseningCamera>(false, 12));
  station.begin_dry_run();
  station.next();
  REQUIRE(told.size() == 1);
  CHECK(contains(told[0], "poor from the beginning"));
  CHECK(contains(told[0], "noise 1"));
  CHECK(contains(told[0], "heron light"));
}

TEST_CASE("with a store what is usual is known after a restart, unless the settings have changed") {
  support::TemporaryFolder folder;
  std::vector<std::string> told;
  StationFile file = watched_station("", told);
  file.store = StationStore{.results = {.folder = folder / "store"}};
  file.link.listens = true, file.link.address = {"127.0.0.1", 0}, file.link.mode = LinkMode::push;
  file.lines = LineFormat{.line = "{drift}"};
  file.link.timeout = 100ms;
  const auto run = [&](const StationFile& with, double light) {
    Station station(with, std::make_unique<FadingCamera>(22, 0, light));
    station.open_link();
    const LineSocket receiver = LineSocket::connect(station.link_address(), patience);
    std::optional<Report> last;
    while (auto report = station.step()) last = std::move(report);
    return last.value();
  };
  CHECK_FALSE(of(run(file, 0), watched::brightness));
  CHECK(std::filesystem::exists(folder / "store/drift.json"));
  CHECK(of(run(file, 0.02), watched::brightness));
  support::write_text(folder / "store/drift.json", "{");
  CHECK(contains(error_of([&] { run(file, 0); }), "drift.json"));
}

TEST_CASE("a station's first failures stay, whatever comes after them") {
  support::TemporaryFolder folder;
  std::vector<std::string> told;
  StationFile file = watched_station("", told);
  file.store = StationStore{.results = {.folder = folder / "store"},
                            .pictures = KeptPictures::bad,
                            .keep_pictures = 1,
                            .keep_first = 1};
  file.link.listens = true, file.link.address = {"127.0.0.1", 0}, file.link.mode = LinkMode::push;
  file.lines = LineFormat{.line = "{count}"};
  file.link.timeout = 100ms;
  // Ever darker: first good, then without a part.
  Station station(file, std::make_unique<FadingCamera>(40, 2, 0.026));
  station.open_link();
  const LineSocket receiver = LineSocket::connect(station.link_address(), patience);
  std::map<std::string, uint64_t> firsts;
  uint64_t good = 0;
  std::vector<uint64_t> further;
  while (const auto report = station.step()) {
    if (!is_bad(*report))
      good = report->number;
    else if (!firsts.emplace(failure_kind(*report), report->number).second)
      further.push_back(report->number);
  }
  REQUIRE(good > 10);
  REQUIRE_FALSE(firsts.empty());
  const std::string pictures = folder / "store/pictures";
  CHECK(PictureFolder::find(pictures, good).empty());
  for (const auto& [kind, number] : firsts) {
    CHECK(contains(PictureFolder::find(pictures, number), "first"));
    CHECK(contains(support::read_text(pictures + "/first/kinds.csv"), fmt::format("{},{}\n", number, kind)));
  }
  REQUIRE(further.size() > 1);
  for (const uint64_t number : further)
    CHECK(PictureFolder::find(pictures, number).empty() == (number != further.back()));
  const auto refused = [&](const std::string& store) {
    return error_of([&] {
      std::string text = cell().text(cell().fixed(), to_nobody);
      cell().station(text + "[store]\nfolder = \"x\"\ngive_up_s = 5\n" + store);
    });
  };
  CHECK(contains(refused("keep_first = 3\n"), "pictures = \"bad\" or \"all\""));
  CHECK(contains(refused("pictures = \"bad\"\nkeep_first = -1\n"), "from 0 to 1000"));
}

TEST_CASE("mistakes in [drift] are named") {
  std::vector<std::string> told;
  const auto refused = [&](const std::string& drift) {
    return error_of([&] {
      std::string text = cell().text(cell().fixed(), to_nobody);
      text.insert(text.find("[link]"), "[drift]\n" + drift + "\n");
      Station station(cell().station(text));
      station.begin_dry_run();
      station.next();
    });
  };
  CHECK(contains(refused("quality = 1"), "quality"));
  CHECK(contains(refused("light = [0, 0, 20, 50]\nquality = true"), "at least 32 x 32"));
  CHECK(contains(refused("light = [-20, 0, 40, 50]\nquality = true"), "32 x 32 of it must lie inside"));
  CHECK(contains(refused("learn = 3"), "from 20 to 1000000"));
  CHECK(contains(refused("memory = 1"), "from 5 to 100000"));
  CHECK(contains(refused("light = [0, 0, 0, 5]"), "at least 1"));
  CHECK(contains(refused("light = [9000, 0, 20, 20]"), "lies outside"));
  CHECK(contains(refused("reference = \"nowhere.png\""), "nowhere.png"));
  CHECK(contains(refused("referense = \"leaf.png\""), "did you mean 'reference'"));
}
