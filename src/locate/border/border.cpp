#include "heron/locate/border.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "border_fit.hpp"
#include "chips.hpp"
#include "locate/common/find_options.hpp"

namespace heron {
namespace {

void require_valid(const BorderSettings& s) {
  const auto within = [](const char* name, double value, double least, double most, const char* unit) {
    if (!(value >= least && value <= most))
      fail_argument(fmt::format("{} {:g} must be from {:g} to {:g} {}", name, value, least, most, unit));
  };
  within("snap", s.snap, 2, 200, "pixels");
  within("position_tolerance", s.position_tolerance, 0, 10000, "pixels");
  within("side_tolerance", s.side_tolerance, 0.5, 100, "pixels");
  within("threshold", s.threshold, 0, 255, "grey levels, 0 follows the noise");
  within("chip width", s.chip_width, 0, 500, "pixels, 0 looks for none");
  within("chip inset", s.chip_inset, -500, 500, "pixels");
  within("chip change", s.chip_change, 1, 255, "grey levels");
  within("min chip", s.min_chip, 1, 1e7, "square pixels");
  within("max chip", s.max_chip, 0, 1e7, "square pixels, 0 for no limit");
}

void require_inside(const Polyline& line, const TeachingPicture& from) {
  const Box b = line.bounds();
  if (b.x < 0 || b.y < 0 || b.x + b.width > from.grey.width() - 1 || b.y + b.height > from.grey.height() - 1)
    fail_argument(
        fmt::format("the polyline spans {:g}..{:g} and {:g}..{:g}; it must lie inside the picture of "
                    "{} x {} pixels",
                    b.x, b.x + b.width, b.y, b.y + b.height, from.grey.width(), from.grey.height()));
}

/// As drawn: the polyline, or the region's own corners.
Polyline drawn(const TeachingPicture& from, const BorderSettings& s) {
  if (!s.polyline.empty()) return polyline_of(s.polyline, s.open);
  const std::vector<Point2> corners = from.region.corners();
  if (corners.empty())
    fail_argument(
        "teach: a border's region must be one rectangle or one polygon (polygon:X,Y,X,Y,...), whose sides "
        "snap to the part; or give its corners as --polyline X,Y,X,Y,...");
  return polyline_of(numbers_of({.corners = corners}), s.open);
}

/// Lines that run within fifteen degrees of one another hold no position along them.
bool holds_position(const Polyline& line) {
  for (size_t i = 1; i < line.sides(); ++i)
    if (std::abs(cross(line.along(0), line.along(i))) > 0.26) return true;
  return false;
}

struct MetSide {
  Point2 at, along;
  double contrast = 0;
};

/// The polyline through the sides that were met.
Polyline through(const Polyline& drawn, const std::vector<MetSide>& sides) {
  Polyline line = drawn;
  for (size_t i = 0; i < line.corners.size(); ++i) {
    const bool first = !line.closed && i == 0, last = !line.closed && i + 1 == line.corners.size();
    const MetSide& before = sides[first ? 0 : (i + sides.size() - 1) % sides.size()];
    const MetSide& after = sides[last ? sides.size() - 1 : i % sides.size()];
    const auto corner =
        first || last ? std::nullopt : meeting(before.at, before.along, after.at, after.along);
    // An end, or a corner that hardly bends, stays where it was drawn, but on the side.
    const MetSide& own = last ? before : after;
    const Point2 d = line.corners[i] - own.at;
    line.corners[i] = corner ? *corner : own.at + own.along * dot(d, own.along);
  }
  return line;
}

/// Each side where its strongest edge lies.
std::vector<MetSide> meet_sides(const PreparedPicture& prepared, const Polyline& line, double reach,
                                double threshold) {
  std::vector<MetSide> met;
  for (size_t side = 0; side < line.sides(); ++side) {
    const double tilt = std::min(0.5, 2 * reach / line.length(side));
    const auto start =
        line_near(prepared, line, side, 0, {.reach = reach, .threshold = threshold, .max_tilt = tilt});
    if (!start) {
      const Point2 a = line.from(side), b = line.to(side);
      fail_argument(fmt::format(
          "teach: side {} of the polyline, from ({:.0f}, {:.0f}) to ({:.0f}, {:.0f}), meets no straight edge "
          "of {:.3g} grey levels within {:g} pixels; draw it nearer to one, or raise --snap",
          side + 1, a.x, a.y, b.x, b.y, threshold, reach));
    }
    const LineEdge edge = settled_line(prepared, line, side, *start);
    const Point2 u = line.along(side), n = line.inwards(side);
    const Point2 along = (u + n * edge.slope) / std::hypot(1, edge.slope);
    met.push_back({line.middle(side) + n * edge.edge.at, along, edge.edge.contrast});
  }
  return met;
}

}  // namespace

const KindInfo& BorderTarget::info() {
  static const KindInfo kind{.id = "border",
                             .what = "straight sides of a plate, with chips along them",
                             .options = {"angle", "scale", "min score", "region"}};
  return kind;
}

const std::vector<SettingRow<BorderSettings>>& BorderTarget::rows() {
  static const std::vector<SettingRow<BorderSettings>> rows{
      {"polyline", &BorderSettings::polyline,
       "corners of the border as x,y,x,y,..., drawn roughly in the picture; default: the region's corners"},
      {"open", &BorderSettings::open, "yes: the last corner is not joined to the first"},
      {"snap", &BorderSettings::snap, "largest distance of a drawn side from the real one, pixels"},
      {"position_tolerance", &BorderSettings::position_tolerance,
       "largest distance of the border from its taught position, pixels; a search region replaces it"},
      {"side_tolerance", &BorderSettings::side_tolerance,
       "largest distance of one side from where the other sides put it, pixels"},
      {"threshold", &BorderSettings::threshold,
       "brightness step across a side, grey levels; 0: chosen from the noise"},
      {"chip_width", &BorderSettings::chip_width,
       "width of the strip that is inspected for chips, pixels; 0: no inspection"},
      {"chip_inset", &BorderSettings::chip_inset, "distance of that strip from the border, pixels inwards"},
      {"chip_tone",
       SettingWord<BorderSettings>{[](const BorderSettings& s) { return static_cast<int>(s.chip_tone); },
                                   [](BorderSettings& s, int i) { s.chip_tone = static_cast<ChipTone>(i); },
                                   {"darker", "brighter", "either"}},
       "whether chips are darker or brighter than the strip: darker, brighter or either"},
      {"chip_change", &BorderSettings::chip_change,
       "difference from the strip's brightness that counts as damage, grey levels"},
      {"min_chip", &BorderSettings::min_chip, "smallest chip that is reported, square pixels"},
      {"max_chip", &BorderSettings::max_chip, "largest chip that is accepted, square pixels; 0: any"},
      {"steps", &BorderSettings::steps,
       "brightness inside minus outside at teaching, grey levels, one value for each side", true},
      {"corner", &BorderSettings::corner, "top left corner of the taught pixels in the camera's picture",
       true}};
  return rows;
}

BorderTarget BorderTarget::taught_from(const TeachingPicture& from, BorderSettings s) {
  require_valid(s);
  Polyline line = drawn(from, s);
  require_inside(line, from);
  if (!holds_position(line))
    fail_argument(
        "teach: all sides of the polyline run one way, so the border would slide along them; add a side that "
        "runs across, or teach an edge (--kind edge)");
  const PreparedPicture prepared{Image<uint8_t>(from.grey)};
  const double threshold = s.threshold > 0 ? s.threshold : std::max(6.0, 4 * prepared.noise_sigma(0));
  line = through(line, meet_sides(prepared, line, s.snap, threshold));
  // Once more, along the whole of each side as it lies.
  require_inside(line, from);
  const auto met = meet_sides(prepared, polyline_of(numbers_of(line), s.open), 4, threshold);
  line = through(line, met);
  s.polyline = numbers_of(line);
  s.steps.clear();
  for (const MetSide& side : met) s.steps.push_back(side.contrast);
  // What is kept of the picture holds the border and what is beside it.
  const Box b = line.bounds();
  const double room = std::max(12.0, s.chip_width - s.chip_inset);
  const Point2 low{std::max(0.0, b.x - room), std::max(0.0, b.y - room)},
      high{std::min<double>(from.grey.width(), b.x + b.width + room),
           std::min<double>(from.grey.height(), b.y + b.height + room)};
  TeachingPicture about = from;
  about.region = Region::rectangle({low.x, low.y, high.x - low.x, high.y - low.y});
  TaughtPicture taught = cut_out(about, s.origin);
  const Point2 corner = s.origin.value_or(about.region.bounds().centre()) - taught.origin;
  s.corner = {corner.x, corner.y};
  if (!s.origin) taught.origin = line.bounds().centre() - corner;
  return {std::move(taught), std::move(s)};
}

BorderTarget::BorderTarget(TaughtPicture taught, BorderSettings settings)
    : TaughtKind(std::move(taught), std::move(settings)) {
  require_valid(settings_);
  heron::require_valid(settings_.options, 1);
  const Polyline line = polyline_of(settings_.polyline, settings_.open);
  if (settings_.steps.size() != line.sides() || settings_.corner.size() != 2)
    fail_argument(fmt::format("'{}' lacks how its sides looked; teach it again", settings_.name));
  if (settings_.chip_width <= 0) return;
  const Point2 corner{settings_.corner[0], settings_.corner[1]};
  Polyline here = line;
  for (Point2& p : here.corners) p = p - corner;
  marks_ = chips_along(PreparedPicture{Image<uint8_t>(taught_->pixels)}, here,
                       std::vector<bool>(line.sides(), true), settings_);
  for (Defect& mark : marks_) mark.x += corner.x, mark.y += corner.y;
}

std::vector<Measurement> BorderTarget::facts() const {
  const Polyline line = polyline_of(settings_.polyline, settings_.open);
  std::vector<Measurement> facts;
  for (size_t i = 0; i < line.sides(); ++i) {
    facts.push_back({fmt::format("side{}.length", i + 1), line.length(i)});
    facts.push_back({fmt::format("side{}.contrast", i + 1), settings_.steps[i]});
  }
  if (settings_.chip_width > 0) facts.push_back({"marks", static_cast<double>(marks_.size())});
  return facts;
}

std::vector<Contour> BorderTarget::contours() const {
  Polyline line = polyline_of(settings_.polyline, settings_.open);
  for (Point2& p : line.corners) p = p - Point2{settings_.corner[0], settings_.corner[1]};
  std::vector<Contour> contours{{.points = line.corners, .closed = line.closed}};
  for (Contour& t : strip_lines(line, settings_)) contours.push_back(std::move(t));
  return contours;
}

Box BorderTarget::extent() const {
  const Box b = polyline_of(settings_.polyline, settings_.open).bounds();
  const Point2 origin = taught_->origin + Point2{settings_.corner[0], settings_.corner[1]};
  return {b.x - origin.x, b.y - origin.y, b.width, b.height};
}

}  // namespace heron
