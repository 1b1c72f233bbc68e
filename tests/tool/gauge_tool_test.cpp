#include <doctest/doctest.h>

#include <nlohmann/json.hpp>

#include "heron/files/picture_file.hpp"
#include "heron/image/picture.hpp"
#include "sanitized.hpp"
#include "support.hpp"

using nlohmann::json;
using support::contains;

namespace {

const std::string program = HERON_TOOL;

/// The bench with a panel taught and three gauges, made once.
class Inspection {
 public:
  Inspection() {
    REQUIRE(run("simulate bench --seed 4 --pictures 3 --output .").status == 0);
    REQUIRE(run("calibrate --board dots --columns 13 --rows 11 --pitch 18 board.png --output mapping.toml")
                .status == 0);
    REQUIRE(run("teach panel/panel-reference.png --region turned:666,540,512,352,5.2 --without "
                "ellipse:674,444,40,40 --output slab.png")
                .status == 0);
  }
  support::Ran run(const std::string& arguments) const {
    return support::run(program + " " + arguments, folder.path());
  }
  support::TemporaryFolder folder;
};
const Inspection& inspection() {
  static const Inspection i;
  return i;
}

const std::string hole =
    "--anchor slab.png --name hole --kind circle --ring 674,444,16,44,0,360 --mapping mapping.toml";

}  // namespace

TEST_CASE("gauges are added, listed, measured, confirmed and removed by the tool") {
  const auto first = inspection().run("gauge add gauges.toml --reference panel/panel-reference.png " + hole +
                                      " --nominal 14 --tolerance 0.25");
  CAPTURE(first.err);
  REQUIRE(first.status == 0);
  CHECK(contains(first.out, "13.75..14.25"));
  CHECK(contains(first.out, "good"));
  for (const char* side : {"left --band 524,559,80,120,5.2", "right --band 802,584,80,120,5.2"})
    REQUIRE(inspection()
                .run(std::string("gauge add gauges.toml --anchor slab --kind width --tone dark --mapping "
                                 "mapping.toml --name ") +
                     side)
                .status == 0);
  REQUIRE(inspection()
              .run("gauge add gauges.toml --name slots --kind distance --between left,right --nominal "
                   "present --tolerance 0.3 --mapping mapping.toml")
              .status == 0);
  const auto list = inspection().run("gauge list gauges.toml");
  CHECK(contains(list.out, "4 gauges, drawn on panel/panel-reference.png"));
  CHECK(contains(list.out, "between left,right"));

  // The first picture has a part whose slots are too near to each other or too far apart; the third has none.
  const auto judged = inspection().run(
      "gauge measure gauges.toml panel/panel-01.png panel/panel-03.png --mapping mapping.toml --json "
      "--picture judged.png");
  CHECK(judged.status == 1);
  const json bad = json::parse(judged.out.substr(0, judged.out.find('\n'))),
             good = json::parse(judged.out.substr(judged.out.find('\n') + 1));
  CHECK(bad["verdict"] == "bad");
  CHECK(bad["found"].size() == 2);
  CHECK(good["verdict"] == "good");
  CHECK(std::filesystem::exists(inspection().folder / "judged-01.png"));
  const auto table =
      inspection().run("gauge measure gauges.toml panel/panel-03.png --mapping mapping.toml --fixed-too");
  CHECK(table.status == 0);
  CHECK(contains(table.out, "1 fixed") == false);
  CHECK(contains(table.out, "- fixed"));
  const auto found =
      inspection().run("find slab.png panel/panel-01.png --mapping mapping.toml --gauges gauges.toml");
  CHECK(found.status == 1);
  CHECK((contains(found.out, "is above") || contains(found.out, "is below")));

  // Taught again with another origin: stale until it is confirmed.
  REQUIRE(inspection()
              .run("teach panel/panel-reference.png --region turned:666,540,512,352,5.2 --without "
                   "ellipse:674,444,40,40 --origin 690,530 --replace --output slab.png")
              .status == 0);
  const auto stale = inspection().run("gauge measure gauges.toml panel/panel-03.png --mapping mapping.toml");
  CHECK(stale.status == 1);
  CHECK(contains(stale.out, "taught again"));
  const auto confirmed = inspection().run("gauge confirm gauges.toml");
  CHECK(confirmed.status == 0);
  CHECK(contains(confirmed.out, "its origin changed"));
  CHECK(inspection().run("gauge measure gauges.toml panel/panel-03.png --mapping mapping.toml").status == 0);

  CHECK(contains(inspection().run("gauge remove gauges.toml left").err, "'slots'"));  // others need it
  CHECK(inspection().run("gauge remove gauges.toml slots").status == 0);
  CHECK(inspection().run("gauge remove gauges.toml left").status == 0);
  CHECK(contains(inspection().run("gauge list gauges.toml").out, "2 gauges"));
}

TEST_CASE("what cannot be a gauge is refused with a reason, and nothing is written") {
  const auto refused = [&](const std::string& arguments, const char* words) {
    const auto ran =
        inspection().run("gauge add none.toml --reference panel/panel-reference.png " + arguments);
    CAPTURE(arguments);
    CAPTURE(ran.err);
    CHECK(ran.status == 2);
    CHECK(contains(ran.err, words));
    CHECK_FALSE(std::filesystem::exists(inspection().folder / "none.toml"));
  };
  refused("--name a --kind edges --anchor picture --band 100,100,40,10,0",
          "'edges' is no kind of gauge; there are: edge");
  refused("--name a --kind edge --anchor picture", "no shape");
  refused("--name a --kind edge --anchor picture --ring 1,2,3", "ring has 3 numbers");
  refused("--name a --kind edge --anchor nothing --band 100,100,40,10,0", "no target or gauge 'nothing'");
  refused("--name a --kind edge --anchor none.png --band 100,100,40,10,0", "No such file");
  refused("--name a --kind edge --anchor picture --band 100,100,40,10,0 --tone dark",
          "has no setting 'tone'");
  refused("--name a --kind edge --anchor picture --band 100,100,40,10,0 --min 3 --max 2", "swapped");
  refused("--name a --kind edge --anchor picture --band 100,100,40,10,0 --nominal 3", "belong together");
  refused("--name a --kind edge --anchor picture --band 100,100,40,10,0 --nominal present --tolerance 1",
          "no present value");
  refused("--name a --kind edge --anchor picture --band 100,100,40,10,0 --follows up", "--follows");
  refused("--name a --kind edge --anchor world --band 10,10,4,1,0", "give a mapping");
  refused("--name a --kind distance --between b,c", "there is no gauge 'b'");
  CHECK(contains(inspection()
                     .run("gauge add none.toml --name a --kind edge --anchor picture --band 100,100,40,10,0")
                     .err,
                 "--reference"));
  CHECK(contains(inspection().run("gauge measure none.toml panel").err, "none.toml"));
  CHECK(inspection().run("gauge").status == 2);
  const auto help = inspection().run("gauge add --kind circle --help");
  CHECK(contains(help.out, "--ring"));
  CHECK_FALSE(contains(help.out, "--min-area"));
  const auto kinds = inspection().run("gauge kinds");
  CHECK(kinds.status == 0);
  for (const char* kind : {"edge", "line", "circle", "distance", "angle", "width", "repeats", "fill", "blobs",
                           "detail", "count", "border", "profile", "crop", "value"})
    CHECK(contains(kinds.out, std::string(kind) + " "));
}

TEST_CASE("heights of a map get limits in millimetres without a mapping, volumes too") {
  REQUIRE(inspection().run("simulate stack --output stack.tif").status == 0);
  REQUIRE(inspection().run("level stack.tif --pitch 0.2,0.25 --square --output flat.tif").status == 0);
  REQUIRE(inspection()
              .run("gauge add heights.toml --reference flat.tif --anchor picture --name heap --kind profile "
                   "--band "
                   "300,300,200,200,0 --reads volume --nominal present --tolerance 5")
              .status == 0);
  const auto ran = inspection().run(
      "gauge add heights.toml --anchor picture --name step --kind profile --band 300,300,200,20,0 "
      "--nominal present --tolerance 0.1");
  CAPTURE(ran.err);
  REQUIRE(ran.status == 0);
  CHECK(inspection().run("gauge measure heights.toml flat.tif").status == 0);
}

TEST_CASE("limits are learned and repeatability studied by the tool") {
  REQUIRE(inspection().run("gauge add learn.toml --reference panel/panel-reference.png " + hole).status == 0);
  // Good parts in a folder of their own, and bad ones whose holes are wrong among others.
  REQUIRE(inspection().run("simulate bench --seed 21 --pictures 3 --bad 0 --output good").status == 0);
  const auto nothing = inspection().run("gauge learn learn.toml --good good/trowel --mapping mapping.toml");
  CHECK(nothing.status == 1);
  CHECK(contains(nothing.out, "none: 0 good readings"));
  const auto learned = inspection().run(
      "gauge learn learn.toml --good good/panel --mapping mapping.toml --apply --plot learned.svg --json");
  CAPTURE(learned.err);
  REQUIRE(learned.status == 0);
  const json j = json::parse(learned.out);
  CHECK(j["good_parts"] == 7);  // the reference lies in the folder too
  CHECK(j["gauges"][0]["proposed"]["min"].get<double>() < 14);
  CHECK(std::filesystem::exists(inspection().folder / "learned.svg"));
  CHECK(contains(inspection().run("gauge list learn.toml").out, " mm"));
  CHECK(contains(inspection().run("gauge learn learn.toml --good good/panel --bad good/panel").err,
                 "among the good and the bad"));
  const auto study =
      inspection().run("gauge study learn.toml good/panel --mapping mapping.toml --plot repeats.svg");
  CAPTURE(study.err);
  CHECK(study.status == 0);
  CHECK(contains(study.out, "P/T"));
  CHECK(std::filesystem::exists(inspection().folder / "repeats.svg"));
  CHECK(contains(
      inspection().run("gauge study learn.toml good/panel --mapping mapping.toml --known slot=3").err,
      "'slot'"));
}

TEST_CASE("the bench's verdicts are those of the truth") {
  const auto ran = inspection().run(sanitized ? "demo bench --seed 3 --pictures 1 --output demo"
                                              : "demo bench --seed 3 --pictures 3 --output demo");
  CAPTURE(ran.out);
  CHECK(ran.status == 0);
  CHECK(contains(ran.out, ": reached"));
  // The boards' numbers stand upright for a reader: light bars on a dark ground, three digits wide.
  for (const char* part : {"1", "2"}) {
    const Picture number =
        load_picture(inspection().folder / ("demo/numbers/board-01-number-" + std::string(part) + ".png"));
    const Image<uint8_t> grey = grey_levels(number);
    int bright = 0, first = grey.width(), last = 0;
    for (int y = 0; y < grey.height(); ++y)
      for (int x = 0; x < grey.width(); ++x)
        if (grey(x, y) > 90) ++bright, first = std::min(first, x), last = std::max(last, x);
    CHECK(bright > 100);
    CHECK(bright < grey.width() * grey.height() / 3);
    CHECK(last - first > grey.width() / 2);
  }
  CHECK(inspection().run("gauge measure demo/stack-gauges.toml demo/stack/stack-reference.tif").status == 0);
  CHECK(
      inspection().run("gauge measure demo/board-gauges.toml demo/board/board-01.png --crops crops").status <=
      1);
  CHECK(std::filesystem::exists(inspection().folder / "crops/board-01-number-2.png"));
  CHECK(contains(
      inspection()
          .run("gauge measure demo/board-gauges.toml demo/board/board-01.png --crops demo/truth.json")
          .err,
      "truth.json"));
}
