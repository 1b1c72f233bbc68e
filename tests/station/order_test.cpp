#include <doctest/doctest.h>

#include "station_cell.hpp"

using namespace station_cell;
using support::contains;
using support::error_of;

namespace {

ReportedPart at(const char* name, double x, double y, double z = 0, double score = 90) {
  ReportedPart part;
  part.detection.target = name, part.detection.score = score;
  part.robot = RobotPose{x, y, z, {}, {}};
  return part;
}

std::string ordered(std::vector<ReportedPart> parts, const OrderSettings& settings) {
  order_parts(parts, settings);
  std::string names;
  for (const ReportedPart& p : parts) names += p.detection.target;
  return names;
}

}  // namespace

TEST_CASE("parts are sent in the order that the station says") {
  std::vector<ReportedPart> parts{at("a", 10, 10, 1, 80), at("b", 30, 11, 5, 95), at("c", 20, 50, 3, 95),
                                  at("d", 12, 52, 9, 70)};
  ReportedPart lost = at("x", 0, 0, 99, 60);
  lost.robot.reset();
  parts.insert(parts.begin(), lost);
  CHECK(ordered(parts, {}) == "xabcd");
  CHECK(ordered(parts, {.by = PartOrder::score}) == "bcadx");
  CHECK(ordered(parts, {.by = PartOrder::nearest, .point = {13, 50}}) == "dcabx");
  CHECK(ordered(parts, {.by = PartOrder::highest}) == "dbcax");
  CHECK(ordered(parts, {.by = PartOrder::along}) == "adcbx");
  CHECK(ordered(parts, {.by = PartOrder::along, .direction = WorldAngle(180_deg)}) == "bcdax");
  // Rows along +X: the lower one lies to the right of that direction.
  CHECK(ordered(parts, {.by = PartOrder::rows, .row_mm = 10}) == "abdcx");
  CHECK(ordered(parts, {.by = PartOrder::rows, .direction = WorldAngle(180_deg), .row_mm = 10}) == "cdbax");
  CHECK(ordered(parts, {.by = PartOrder::rows, .row_mm = 100}) == "adcbx");
  // A row does not creep: it is measured from its first part.
  CHECK(ordered({at("a", 9, 0), at("b", 5, 6), at("c", 1, 12)}, {.by = PartOrder::rows, .row_mm = 7}) ==
        "bac");
  CHECK(ordered({}, {.by = PartOrder::rows, .row_mm = 7}).empty());
}

TEST_CASE("the order holds for what is sent, and gauges keep to their parts") {
  const std::string text = cell().text(cell().fixed(), "connect = \"127.0.0.1:1\"\nmode = \"push\"");
  const auto with = [&](const std::string& order) {
    std::string changed = text;
    return cell().station(changed.insert(changed.find("[link]"), order + "\n"));
  };
  Station station(with("[order]\nby = \"along\"\ndirection = 90"));
  station.begin_dry_run();
  const auto report = station.next();
  REQUIRE(report->parts.size() == 5);
  for (size_t i = 1; i < 5; ++i) CHECK(report->parts[i].robot->y_mm >= report->parts[i - 1].robot->y_mm);
  CHECK(contains(station.sent_text(*report),
                 "PART 1 1 leaf " + std::to_string(report->parts[0].robot->x_mm).substr(0, 6)));
  const auto error = [&](const std::string& order) { return error_of([&] { with(order); }); };
  CHECK(contains(error("[order]\nby = \"size\""), "by"));
  CHECK(contains(error("[order]\nby = \"nearest\""), "to"));
  CHECK(contains(error("[order]\nby = \"rows\"\ndirection = 0"), "row_mm"));
  CHECK(contains(error("[order]\nby = \"rows\"\ndirection = 0\nrow_mm = 0"), "must be above 0"));
  CHECK(contains(error("[order]\nby = \"score\"\ndirection = 0"), "unknown key"));
}

TEST_CASE("exposure and gain of the station file are set before the first picture") {
  const auto with = [&](const std::string& camera) {
    std::string text = cell().text(cell().fixed(), "connect = \"127.0.0.1:1\"\nmode = \"push\"");
    const std::string recording = "recording = \"tray\"\n";
    return cell().station(text.replace(text.find(recording), recording.size(), camera));
  };
  /// Keeps what it was set to.
  class Settable : public Camera {
   public:
    explicit Settable(std::pair<double, double>& set) : set_(set) {}
    CameraInfo info() const override { return {.address = "settable", .name = "settable"}; }
    std::optional<Picture> take() override { return std::nullopt; }
    void set_exposure_ms(double value) override { set_.first = value; }
    void set_gain(double value) override { set_.second = value; }

   private:
    std::pair<double, double>& set_;
  };
  std::pair<double, double> set{0, 0};
  Station station(with("address = \"settable\"\nexposure_ms = 4.5\ngain = 2\n"),
                  std::make_unique<Settable>(set));
  CHECK(set == std::pair(4.5, 2.0));
  // A recording's are what they were.
  CHECK(error_of([&] { Station none(with("recording = \"tray\"\nexposure_ms = 5\n")); }).find("exposure") !=
        std::string::npos);
}
