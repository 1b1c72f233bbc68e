#include <doctest/doctest.h>

#include <nlohmann/json.hpp>

#include "heron/files/picture_file.hpp"
#include "heron/render/tray_station.hpp"
#include "heron/simulation/arm_cell.hpp"
#include "support.hpp"

// What goes wrong in the first two hours: each gives one clear message, status 2 (or 1 when only the answer
// is "no"), and no file.
namespace {

using nlohmann::json;
using namespace heron;

struct Bench {
  support::TemporaryFolder folder;
  ArmCell cell = write_arm_cell(folder / "arm", 8, 4);
  std::string board = " --board checker --columns 11 --rows 8 --pitch 15 ";

  Bench() {
    const Image<uint8_t> first = grey_levels(load_picture(cell.path("stop-01.png")));
    Image<uint8_t> flipped(first.width(), first.height()), part(800, 600), glare(first);
    for (int y = 0; y < first.height(); ++y)
      for (int x = 0; x < first.width(); ++x) flipped(x, y) = first(first.width() - 1 - x, y);
    for (int y = 0; y < 600; ++y)
      for (int x = 0; x < 800; ++x) part(x, y) = first(x + 200, y + 200);
    for (int y = 150; y < 900; ++y)
      for (int x = 400; x < 900; ++x) glare(x, y) = 255;
    save_picture(folder / "flipped.png", flipped.view());
    save_picture(folder / "part.png", part.view());
    save_picture(folder / "glare.png", glare.view());
  }
  support::Ran run(const std::string& arguments) const {
    return support::run(std::string(HERON_TOOL) + " " + arguments, folder.path());
  }
};

const Bench& bench() {
  static const Bench shared;
  return shared;
}

void fails(const std::string& arguments, const std::string& message, int status = 2) {
  const auto ran = bench().run(arguments);
  CHECK_MESSAGE(ran.status == status, arguments << "\n" << ran.out << ran.err);
  CHECK_MESSAGE(ran.err.find(message) != std::string::npos, arguments << "\n" << ran.err);
  CHECK_FALSE(std::filesystem::exists(bench().folder / "x.toml"));
}

}  // namespace

TEST_CASE("lens: too few views, mixed sizes, mirrored, behind glare, a plane that is none of them") {
  const std::string lens = "calibrate --lens" + bench().board;
  fails(lens + "arm/stop-01.png arm/stop-02.png --output x.toml", "at least 3");
  fails(lens + "arm/stop-01.png part.png arm/stop-03.png --output x.toml",
        "one mapping serves one picture size");
  fails(lens + "flipped.png arm/stop-02.png arm/stop-03.png --output x.toml", "mirror image");
  fails(lens + "glare.png arm/stop-02.png arm/stop-03.png --output x.toml", "glare.png");
  fails(lens + "arm/stop-0*.png --plane elsewhere.png --output x.toml", "none of the pictures");
  fails(lens + "arm/stop-0*.png", "--output");
  fails("calibrate --lens arm/stop-0*.png --output x.toml", "--board dots|checker");
  fails("calibrate --lens --lens-from a.toml" + bench().board + "arm/stop-0*.png --output x.toml",
        "--lens takes no --lens-from");
  for (const char* pitch : {"0", "-3", "1e9", "nan"})
    fails("calibrate --lens --board checker --columns 11 --rows 8 --pitch " + std::string(pitch) +
              " arm/stop-0*.png --output x.toml",
          "pitch");
}

TEST_CASE("plane: swapped counts, mirrored, lens from a file that holds none") {
  fails("calibrate --board checker --columns 8 --rows 11 --pitch 15 arm/stop-01.png --output x.toml",
        "11 columns and 8 rows", 1);
  fails("calibrate" + bench().board + "flipped.png --output x.toml", "mirror image", 1);
  fails("calibrate" + bench().board + "glare.png --output x.toml", "glare", 1);
  REQUIRE(bench().run("calibrate" + bench().board + "arm/stop-01.png --output plane.toml").status == 0);
  fails("calibrate --lens-from plane.toml" + bench().board + "arm/stop-02.png --output x.toml",
        "holds no lens");
  fails(
      "calibrate --lens-from plane.toml" + bench().board + "arm/stop-01.png arm/stop-02.png --output x.toml",
      "needs one picture");
  fails("calibrate --lens-from none.toml" + bench().board + "arm/stop-02.png --output x.toml", "none.toml");
}

TEST_CASE("known lengths and points that determine nothing") {
  const std::string size = " --size 1280,1024 --output x.toml";
  fails("calibrate --length 80mm" + size, "--from U,V");
  fails("calibrate --length 80mm --from 5,5 --to 5,5" + size, "at least 1 px apart");
  fails("calibrate --length -80mm --from 5,5 --to 500,5" + size, "above 0");
  fails("calibrate --length 80mm --distance 0m --from 5,5 --to 500,5" + size, "above 0");
  fails("calibrate --length 80mm --from 5,5 --to 500,5 --output x.toml", "--size");
  fails("calibrate --length 80mm --from 5,5 --to 500,5 --size 0,5 --output x.toml", "1 to 65535");
  support::write_text(bench().folder / "line.csv", "u,v,x,y\n0,0,0,0\n100,0,10,0\n200,0,20,0\n300,0,30,0\n");
  fails("calibrate --points line.csv --model homography" + size, "one line");
  support::write_text(bench().folder / "twice.csv", "u,v,x,y\n0,0,0,0\n0,0,10,0\n200,0,20,0\n");
  fails("calibrate --points twice.csv" + size, "the same pixel");
  support::write_text(bench().folder / "words.csv", "u,v,x,y\nhere,0,0,0\n");
  fails("calibrate --points words.csv" + size, "words.csv:2");
}

TEST_CASE("hand-eye: as many poses as pictures, and no answer for one axis; a wrist that hardly turns") {
  const std::string eye = "calibrate --hand-eye arm/poses.csv --rotation zyx" + bench().board;
  fails(eye + "arm/stop-01.png --output x.toml", "holds 4 poses, 1 pictures");
  fails(eye + "arm/stop-0*.png --mount ceiling --output x.toml", "arm (the robot carries");
  fails("calibrate --hand-eye arm/poses.csv --rotation zyx arm/stop-0*.png --output x.toml", "--board");
  fails("calibrate --hand-eye none.csv --rotation zyx" + bench().board + "arm/stop-0*.png --output x.toml",
        "none.csv");
  support::write_text(bench().folder / "wrist.csv",
                      "angle,x,y\n0,110,50\n60,105,58.66\n120,95,58.66\n180,90,50\n");
  const auto ran = bench().run("calibrate --tool-center wrist.csv --json");
  REQUIRE(ran.status == 0);
  const json j = json::parse(ran.out);
  CHECK(j["centre_mm"][0].get<double>() == doctest::Approx(100).epsilon(1e-3));
  CHECK(j["part_mm"][0].get<double>() == doctest::Approx(10).epsilon(1e-2));
  CHECK(j["turns_backwards"] == false);
  support::write_text(bench().folder / "still.csv", "angle,x,y\n0,110,50\n1,110,50.2\n2,110,50.3\n");
  fails("calibrate --tool-center still.csv", "5 or more");
}

TEST_CASE(
    "touched points and wrist rows that do not fit are named; an option that a way does not use is refused") {
  support::write_text(
      bench().folder / "touched.csv",
      "robot_y,robot_x,board_y,board_x\n0,0,0,0\n0,100,0,100\n80,100,80,100\n80,0,80,0\n47,50,40,50\n");
  fails("calibrate --touch-points touched.csv", "pair 5 (board 50, 40; robot 50, 47) is off; the others fit",
        1);
  support::write_text(bench().folder / "bent.csv", "angle,x,y\n0,110,50\n90,100,60\n180,90,50\n270,100,48\n");
  fails("calibrate --tool-center bent.csv", "row 4", 1);
  fails("calibrate --touch-points touched.csv --output x.toml", "--touch-points takes no --output");
  fails("calibrate --length 80mm --from 5,5 --to 500,5 --size 640,480 --columns 9 --output x.toml",
        "--length takes no --columns");
  fails("calibrate --board checker part.png --sigma-px 1 --output x.toml", "--board takes no --sigma-px");
  fails("level stack.tif --pitch 1,1 --band 1..2", "--band says what --mask keeps");
  fails("map x.toml --pixel 1,1 --towards", "--pixel takes no --towards");
}

TEST_CASE("find: heights need a camera, and a user's axes count the world their own way") {
  REQUIRE(bench().run("simulate tray --seed 4 --views 1 --output .").status == 0);
  const auto said = bench().run("simulate tray --seed 4 --views 1 --output .").out;
  const size_t at = said.find(" in ") + 4;
  REQUIRE(bench()
              .run("teach teach.png --region " + said.substr(at, said.find(')') - at) +
                   " --height 8 --grasp 5,0,90 --output leaf.png")
              .status == 0);
  REQUIRE(bench()
              .run("calibrate --board dots --columns 13 --rows 11 --pitch 18 board.png --output m.toml")
              .status == 0);
  fails("find leaf.png tray/tray-01.png --mapping m.toml", "knows nothing of heights");
  const auto plain = bench().run("find leaf.png tray/tray-01.png --mapping m.toml --height 0 --json");
  REQUIRE_MESSAGE(plain.status == 0, plain.err);
  REQUIRE(bench().run("map m.toml --set-axes=-X,-Y").status == 0);
  const json before = json::parse(plain.out),
             after = json::parse(
                 bench().run("find leaf.png tray/tray-01.png --mapping m.toml --height 0 --json").out);
  REQUIRE(before["found"].size() == after["found"].size());
  for (size_t i = 0; i < before["found"].size(); ++i) {
    CHECK(before["found"][i]["world"]["x"].get<double>() ==
          doctest::Approx(-after["found"][i]["world"]["x"].get<double>()));
    const double turned = before["found"][i]["world"]["angle"].get<double>() -
                          after["found"][i]["world"]["angle"].get<double>();
    CHECK(std::abs(std::remainder(turned - 180, 360)) < 1e-9);
  }
}
