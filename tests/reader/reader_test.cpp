#include <doctest/doctest.h>
#include <httplib.h>

#include <chrono>
#include <thread>

#include "gauge/bench_pictures.hpp"
#include "heron/base/work.hpp"
#include "heron/reader/reader.hpp"
#include "sanitized.hpp"
#include "support.hpp"

using namespace heron;
using namespace inspection;
using namespace std::chrono_literals;
using support::contains;

namespace {

/// A crop of the panel's insert, read by a command line.
Report read_with(const std::string& program, CropGauge crop = {}, const Pose2& pose = {1, 2, degrees(70)},
                 const std::string& rule = "all") {
  crop.program = program;
  crop.box = box(panel_pose, render::BenchPanel::insert_at, 30, 20);
  static const Target target = panel_target();
  GaugeSet set = set_of(target, picture_of(render::pieces_of(render::BenchPanel{}, panel_pose)),
                        {{.name = "number", .anchor = "panel", .kind = crop}});
  set.part_rule = rule;
  Report report = measured(set, picture_of(render::pieces_of(render::BenchPanel{}, pose)));
  report.picture = "p.png";
  read_crops(report, set);
  return report;
}
Reading number(const std::string& program, CropGauge crop = {}) {
  return read_with(program, crop).readings.at(0);
}

}  // namespace

TEST_CASE("a crop follows its part and stands upright, whatever the part's angle") {
  const Image<uint8_t> upright = *read_with("", {}, panel_pose).readings.at(0).crop;
  CHECK(upright.height() == 48);
  CHECK(upright.width() == 72);
  for (const double turned : {0.0, 45.0, -120.0}) {
    const Report report = read_with("", {}, {-2, 3, degrees(turned)});
    CHECK(report.verdict == Verdict::good);  // it is only cut out
    const Image<uint8_t>& crop = *report.readings.at(0).crop;
    double off = 0;
    for (int y = 0; y < 48; ++y)
      for (int x = 0; x < 72; ++x) off += std::abs(crop(x, y) - upright(x, y)) / (48.0 * 72);
    CHECK(off < 3);  // noise of 2 in both
  }
}

TEST_CASE("a reader's text is matched, and comes with its picture, part and gauge") {
  CHECK(number("cat >/dev/null; echo A17").state == Verdict::good);
  CHECK(number("cat >/dev/null; echo A17").text == "A17");
  CHECK(number("echo \"$HERON_PICTURE $HERON_PART $HERON_GAUGE\"").text == "p.png 1 number");
  CHECK(number("cat >/dev/null; echo A17", {.pattern = "[A-Z][0-9]{2}"}).state == Verdict::good);
  const Reading wrong = number("echo B7", {.pattern = "[A-Z][0-9]{2}"});
  CHECK(wrong.state == Verdict::bad);
  CHECK(contains(wrong.reason, "reads 'B7', which does not match"));
  CHECK(number("echo B7", {.allowed = {"B7", "C9"}}).state == Verdict::good);
  CHECK(number("echo B8", {.allowed = {"B7", "C9"}}).state == Verdict::bad);
  const Reading sure = number("echo '{\"text\": \"A17\", \"confidence\": 0.93}'", {.min_confidence = 0.9});
  CHECK(sure.state == Verdict::good);
  CHECK(sure.confidence == 0.93);
  CHECK(number("echo '{\"text\": \"A17\", \"confidence\": 0.4}'", {.min_confidence = 0.9}).state ==
        Verdict::bad);
  CHECK(number("echo A17", {.min_confidence = 0.9}).state == Verdict::bad);
  // The picture arrives whole, as PNG.
  CHECK(number("head -c 4 | tail -c 3").text == "PNG");
}

TEST_CASE("no answer, an empty, a late and an unreadable one are told apart, and none counts as good") {
  const auto begun = std::chrono::steady_clock::now();
  const Reading late = number("sleep 30; echo A17", {.timeout_s = 0.3});
  CHECK(std::chrono::steady_clock::now() - begun < (sanitized ? 25s : 10s));
  CHECK(late.state == Verdict::not_measured);
  CHECK(contains(late.reason, "no answer within 0.3 s"));
  const Reading empty = number("cat >/dev/null; echo '  '");
  CHECK(empty.state == Verdict::not_found);
  CHECK(contains(empty.reason, "no text"));
  for (const auto& [program, words] : {std::pair{"exit 3", "status 3"},
                                       {"no-such-program-here", "status 127"},
                                       {"kill -9 $$", "status 137"},
                                       {"printf 'a\\nb\\n'", "more than one line"},
                                       {"printf '\\377\\376'", "bytes that are no text"},
                                       {"printf 'a\\033[31m'", "bytes that are no text"},
                                       {"yes", "more than 65536 bytes"},
                                       {"echo '{\"word\": 3}'", "no text"},
                                       {"echo '{\"text\": \"a\", \"confidence\": 7}'", "confidence"},
                                       {"echo '{nothing'", "no JSON object"}}) {
    CAPTURE(std::string(program));
    const Reading r = number(program);
    CHECK(r.state == Verdict::not_measured);
    CAPTURE(r.reason);
    CHECK(contains(r.reason, words));
  }
  CHECK(read_with("exit 3").verdict == Verdict::not_measured);
  // A reader that leaves something running does not hold up the station.
  const auto then = std::chrono::steady_clock::now();
  CHECK(number("sleep 60 >/dev/null 2>&1 </dev/null & echo A17").state == Verdict::good);
  CHECK(std::chrono::steady_clock::now() - then < 10s);
}

TEST_CASE(
    "an HTTP server can be the reader: it gets the picture, its name, part and gauge, and each of its "
    "failures is named") {
  httplib::Server server;
  server.Post("/read", [](const httplib::Request& request, httplib::Response& response) {
    const bool png =
        request.body.substr(1, 3) == "PNG" && request.get_header_value("Content-Type") == "image/png";
    response.set_content(png ? "{\"text\": \"" + request.get_header_value("Heron-Picture") + " " +
                                   request.get_header_value("Heron-Part") + " " +
                                   request.get_header_value("Heron-Gauge") + "\", \"confidence\": 0.8}"
                             : "no picture",
                         "application/json");
  });
  server.Post("/empty", [](const httplib::Request&, httplib::Response& response) { response.status = 204; });
  server.Post("/slow", [](const httplib::Request&, httplib::Response&) { std::this_thread::sleep_for(2s); });
  const int port = server.bind_to_any_port("127.0.0.1");
  std::thread thread([&] { server.listen_after_bind(); });
  while (!server.is_running()) std::this_thread::sleep_for(1ms);
  const auto read = [&](const std::string& path, CropGauge crop = {.timeout_s = 20}) {
    return number(HERON_SOURCE "/examples/read_over_http.sh http://127.0.0.1:" + std::to_string(port) + path,
                  crop);
  };
  const Reading good = read("/read");
  CHECK(good.text == "p.png 1 number");
  CHECK(good.confidence == 0.8);
  CHECK(good.state == Verdict::good);
  CHECK(read("/empty").state == Verdict::not_found);
  CHECK(contains(read("/slow", {.timeout_s = 0.5}).reason, "no answer within 0.5 s"));
  const Reading lost = read("/nowhere");
  CHECK(lost.state == Verdict::not_measured);
  CHECK(contains(lost.reason, "status 22"));
  server.stop(), thread.join();
  CHECK(contains(read("/read").reason, "status 7"));  // nobody listens any more
}

TEST_CASE("a part that is not found is none of the reader's failures") {
  CropGauge crop{.box = box(panel_pose, {0, 0}, 20, 10), .program = "echo A17"};
  GaugeSet set = set_of(panel_target(), picture_of(render::pieces_of(render::BenchPanel{}, panel_pose)),
                        {{.name = "number", .anchor = "panel", .kind = crop}});
  Report report = measured(set, picture_of({}));
  read_crops(report, set);
  CHECK(report.readings.at(0).state == Verdict::not_measured);
  CHECK(contains(report.readings.at(0).reason, "'panel' was not found"));
  CHECK(report.verdict == Verdict::not_found);
  crop.pattern = "[";
  set.gauges[0].kind = crop;
  CHECK(contains(support::error_of([&] { set.require_valid(); }), "no regular expression"));
}
