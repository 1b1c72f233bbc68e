#include "heron/draw/overlay.hpp"
#include "base/round_step.hpp"

#include <fmt/format.h>

#include "canvas.hpp"
#include "gauge_overlay.hpp"
#include "heron/locate/names.hpp"

namespace heron {
namespace {

using namespace draw;

void draw_edges(Canvas& canvas, const std::vector<EdgeMatch>& edges) {
  // Three classes of match, each a line of its own width.
  for (const auto& [least, most, width] :
       {std::tuple{0.0f, 0.5f, 0.8}, {0.5f, 0.9f, 1.4}, {0.9f, 2.0f, 2.2}}) {
    std::vector<std::pair<Point2, Point2>> segments;
    for (const EdgeMatch& e : edges) {
      if (e.weight <= least || e.weight > most) continue;
      const Point2 at = e.place + e.normal * static_cast<double>(e.distance),
                   along{-e.normal.y * 0.6, e.normal.x * 0.6};
      segments.emplace_back(at - along, at + along);
    }
    canvas.lines(segments, edge_color, width);
  }
  // Unseen edges lie a pixel apart; a cross at every tenth shows the gap without filling it.
  size_t unseen = 0;
  for (const EdgeMatch& e : edges)
    if (e.weight <= 0 && unseen++ % 10 == 0) canvas.cross(e.place, 2.5, unseen_color);
}

void draw_axes(Canvas& canvas, Point2 origin, Angle angle, double length) {
  const Point2 x = unit(angle), y{-x.y, x.x};
  canvas.arrow(origin, origin + x * length, axis_color, 2, Stroke::solid);
  canvas.arrow(origin, origin + y * (0.7 * length), axis_color, 1.5, Stroke::dashed);
  canvas.ring(origin, 4, axis_color, 1.5);
}

void draw_traces(Canvas& canvas, const std::vector<Contour>& contours, double width = 2) {
  for (const Contour& t : contours)
    canvas.path(t.points, t.closed, t.seen ? edge_color : unseen_color, width,
                t.seen ? Stroke::solid : Stroke::dotted);
}

void draw_flaws(Canvas& canvas, const std::vector<Defect>& defects) {
  for (const Defect& f : defects) {
    const double radius = std::max(6.0, std::sqrt(f.area / std::numbers::pi) + 4);
    canvas.ring({f.x, f.y}, radius, unseen_color, 1.8);
    canvas.label({f.x + radius + 2, f.y - 8}, fmt::format("{} {:.0f} px\u00b2", f.what, f.area), unseen_color,
                 11);
  }
}

/// The hand that takes a part, and the nests where parts go.
void draw_hands(Canvas& canvas, const Report& report) {
  for (const ReportedPart& part : report.parts)
    if (part.grasp)
      for (const Contour& piece : part.grasp->hand)
        canvas.path(piece.points, piece.closed, piece.seen ? region_color : unseen_color, 1.5,
                    piece.seen ? Stroke::solid : Stroke::dotted);
  for (const ReportedPart& nest : report.nests) {
    const Detection& s = nest.detection;
    draw_axes(canvas, {s.x, s.y}, s.angle, 32);
    canvas.label({s.x + 8, s.y + 8}, s.target, region_color, 11);
  }
}

/// Each length at its middle, a corner as a small ring.
void draw_lengths(Canvas& canvas, const ReportedPart& part) {
  const Detection& s = part.detection;
  for (size_t i = 0; i < s.lengths.size() && !s.points.empty(); ++i) {
    const MeasuredLength& span = s.lengths[i];
    const Point2 middle = (span.from + span.to) * 0.5, out = middle - Point2{s.x, s.y};
    const Point2 beside = out * (16 / std::max(norm(out), 16.0));  // away from the part
    canvas.label(middle + beside + Point2{out.x < 0 ? -96.0 : 0.0, -8},
                 i < part.lengths_mm.size()
                     ? fmt::format("{} {:.2f} mm", span.name, part.lengths_mm[i])
                     : fmt::format("{} {:.1f} px", span.name, distance(span.from, span.to)),
                 edge_color, 11);
  }
  for (const NamedPoint& p : s.points) canvas.ring(p.at, 5, edge_color, 1.5);
}

/// A kind's measurements in brief: "area 4021", for below a part's name.
std::string figures_of(const Detection& s) {
  std::string words;
  for (const char* name : {measurement::area, measurement::deviation, measurement::diameter,
                           measurement::quality_rim, measurement::mirrored}) {
    const auto value = s.measurement(name);
    if (!value || (std::string_view(name) == measurement::mirrored && *value == 0)) continue;
    if (!words.empty()) words += "  ";
    words += std::string_view(name) == measurement::quality_rim ? fmt::format("rim {:.0f} %", *value)
                                                                : fmt::format("{} {:.5g}", name, *value);
  }
  return words;
}

/// Upright, around what is drawn of a part.
struct Around {
  Point2 least{1e9, 1e9}, most{-1e9, -1e9};

  explicit Around(const Detection& s) {
    for (const EdgeMatch& e : s.edges) take(e.place);
    for (const Contour& t : s.contours)
      for (const Point2& p : t.points) take(p);
  }
  void take(Point2 p) {
    least = {std::min(least.x, p.x), std::min(least.y, p.y)};
    most = {std::max(most.x, p.x), std::max(most.y, p.y)};
  }
  bool holds(Point2 p) const { return p.x >= least.x && p.y >= least.y && p.x <= most.x && p.y <= most.y; }
  Point2 middle() const { return (least + most) * 0.5; }
};

/// Whether the origin of a part that is found by its edges lies off them.
bool is_away(const Detection& s, const Around& part) { return !s.edges.empty() && !part.holds({s.x, s.y}); }

/// Where the words of a part go: below its lowest edge.
Point2 foot_of(const Detection& s, const Around& part) {
  if (is_away(s, part)) return {part.middle().x - 40, part.most.y + 6};
  return {s.x - 40, std::max(s.y + 20, part.most.y + 6)};
}

std::string reason_of(const Miss& miss) {
  std::string words = "miss:";
  for (const MissReason& l : miss.reasons) {
    if (l.name == limit::region)
      words += " outside the search region";
    else if (l.name == limit::shape)
      words += fmt::format(" another shape, {:.0f} % of the area", l.value);
    else if (l.name == limit::mirrored)
      words += " mirrored";
    else if (l.name == limit::inversion)
      words += fmt::format(" {} ({})", l.value < 0 ? "inverted" : "as taught", l.needed);
    else
      words += fmt::format(" {} {:.3g} ({})", l.name, l.value, l.needed);
  }
  return words;
}

/// What was scanned, as a chart in the picture's lower right: brightness dashed, strength solid, the
/// threshold on both sides of zero dotted, and a ring at each edge found.
void draw_profile(Canvas& canvas, const ScanProfile& p, const Box& box) {
  const Point2 corner{box.x, box.y};
  const double width = box.width, height = box.height;
  canvas.patch(corner, width, height, {0, 0, 0, 0.72});
  canvas.box(corner, width, height, region_color, Stroke::solid);
  const auto count = static_cast<double>(std::max<size_t>(p.brightness.size(), 2) - 1);
  double most = p.threshold * 1.2;
  for (const double v : p.strength) most = std::max(most, std::abs(v));
  const double top = corner.y + 24, room = height - 32, zero = top + room / 2;
  const auto x_of = [&](double step) { return corner.x + 8 + (width - 16) * step / count; };
  const auto y_of = [&](double strength) { return zero - strength / most * room / 2; };
  std::vector<Point2> brightness, strength;
  for (size_t i = 0; i < p.brightness.size(); ++i) {
    brightness.push_back({x_of(static_cast<double>(i)), top + room * (1 - p.brightness[i] / 255)});
    strength.push_back({x_of(static_cast<double>(i)), y_of(p.strength[i])});
  }
  canvas.path(brightness, false, region_color, 1, Stroke::dashed);
  for (const double sign : {1.0, -1.0})
    canvas.line({x_of(0), y_of(sign * p.threshold)}, {x_of(count), y_of(sign * p.threshold)}, unseen_color, 1,
                Stroke::dotted);
  canvas.path(strength, false, edge_color, 1.6, Stroke::solid);
  for (const double e : p.edges) {
    const auto k =
        static_cast<size_t>(std::clamp(std::lround(e), 0L, static_cast<long>(p.strength.size()) - 1));
    canvas.ring({x_of(e), y_of(p.strength[k])}, 5, axis_color, 2);
  }
  canvas.label({corner.x + 4, corner.y + 2},
               fmt::format("{}: strength (line) with threshold {:.3g} (dots), brightness (dashes)", p.name,
                           p.threshold),
               {1, 1, 1}, 11);
}

/// The profiles that are drawn: those of the search, and of readings that are not good, or of the only one;
/// at most three.
std::vector<ScanProfile> profiles_of(const Report& report) {
  constexpr size_t most = 3;
  std::vector<ScanProfile> profiles = report.profiles;
  for (const Reading& r : report.readings) {
    if (r.state == Verdict::good && report.readings.size() > 1) continue;
    for (ScanProfile p : r.profiles) {
      p.name = r.part ? fmt::format("{}, part {}", r.gauge, *r.part + 1) : r.gauge;
      profiles.push_back(std::move(p));
    }
  }
  profiles.resize(std::min(profiles.size(), most));
  return profiles;
}

/// Charts over each other in the corner of a picture where they cover least of what was seen; the headline's
/// is left free.
std::vector<Box> chart_boxes(const Report& report, size_t count, double width, double height) {
  const double wide = std::min(520.0, 0.6 * width), high = std::min(150.0, 0.28 * height), apart = high + 8;
  std::vector<Point2> seen;
  for (const ReportedPart& p : report.parts) {
    seen.push_back({p.detection.x, p.detection.y});
    for (const Contour& c : p.detection.contours) seen.insert(seen.end(), c.points.begin(), c.points.end());
  }
  for (const Reading& r : report.readings)
    for (const Contour& c : r.contours) seen.insert(seen.end(), c.points.begin(), c.points.end());
  const double right = width - wide - 10, bottom = height - apart * static_cast<double>(count);
  std::vector<Box> best;
  int64_t least = std::numeric_limits<int64_t>::max();
  for (const Point2 corner : {Point2{right, bottom}, {10, bottom}, {right, 8}}) {
    const auto covers = [&](Point2 p) {
      return p.x >= corner.x && p.x <= corner.x + wide && p.y >= corner.y &&
             p.y <= corner.y + apart * static_cast<double>(count);
    };
    const int64_t covered = std::count_if(seen.begin(), seen.end(), covers);
    if (covered >= least) continue;
    least = covered, best.clear();
    for (size_t i = 0; i < count; ++i)
      best.push_back({corner.x, corner.y + apart * static_cast<double>(i), wide, high});
  }
  return best;
}

Image<Rgb> report_on(Canvas canvas, const Report& report, const Box* search_region, int shown_width) {
  const double width = canvas.width(), height = canvas.height(),
               words_by = std::max(1.0, width / shown_width);
  canvas.enlarge_words(words_by);
  if (search_region)
    canvas.box({search_region->x, search_region->y}, search_region->width, search_region->height,
               region_color, Stroke::dashed);
  draw_hands(canvas, report);
  for (const ReportedPart& part : report.parts) {
    if (!report.readings.empty()) continue;
    draw_edges(canvas, part.detection.edges);
    draw_traces(canvas, part.detection.contours);
    draw_flaws(canvas, part.detection.defects);
    draw_lengths(canvas, part);
  }
  for (const Miss& miss : report.misses) {
    const Point2 at{miss.x, miss.y};
    canvas.ring(at, 14, miss_color, 1.5, Stroke::dashed);
    if (miss.has_angle) canvas.arrow(at, at + unit(miss.angle) * 34, miss_color, 1.5, Stroke::dashed);
    canvas.label({miss.x + 16, miss.y + 16}, reason_of(miss), miss_color, 11);
  }
  const bool judged = !report.readings.empty();
  const std::vector<ScanProfile> profiles = profiles_of(report);
  const std::vector<Box> charts = chart_boxes(report, profiles.size(), width, height);
  if (judged) draw_readings(canvas, report, charts, words_by);
  int number = 0;
  for (const ReportedPart& part : report.parts) {
    if (judged) break;  // its gauges say more than its edges
    const Detection& s = part.detection;
    const Around drawn(s);
    if (is_away(s, drawn)) canvas.line(drawn.middle(), {s.x, s.y}, axis_color, 1, Stroke::dotted);
    if (s.has_angle)
      draw_axes(canvas, {s.x, s.y}, s.angle, 48);
    else
      canvas.cross({s.x, s.y}, 7, axis_color, 2);
    Point2 below = foot_of(s, drawn);
    if (!s.points.empty()) below.y += 24;                 // below the last side's length
    below.y = std::min(below.y, height - 66 * words_by);  // three lines of words
    canvas.label(below, fmt::format("{} {}  {:.1f}", ++number, s.target, s.score));
    const auto add = [&](const std::string& words) {
      canvas.label(below += Point2{0, 21 * words_by}, words, {1, 1, 1}, 11);
    };
    if (const std::string words = figures_of(s); !words.empty()) add(words);
    const auto add_place = [&](const char* frame, const auto& place) {
      const bool has_height = s.measurement(measurement::height_mm).has_value();
      add(fmt::format("{} {:.2f} {:.2f}{} mm{}", frame, place.x_mm, place.y_mm,
                      has_height ? fmt::format(" {:.2f}", place.z_mm) : "",
                      s.has_angle ? fmt::format("  {:.2f}\u00b0", place.angle.degrees()) : ""));
    };
    if (part.robot)
      add_place("robot", *part.robot);
    else if (part.world)
      add_place("world", *part.world);
    if (const auto& other = s.ambiguous) {  // the pose that explains the picture as well
      const Point2 at{other->x, other->y};
      canvas.line(at, at + unit(other->angle) * 60, miss_color, 2, Stroke::dashed);
      canvas.ring(at, 9, miss_color, 1.5, Stroke::dashed);
      add(fmt::format("ambiguous: or {:.2f}\u00b0, dashed", other->angle.degrees()));
    }
    if (!part.withheld.empty() && !s.ambiguous) add("not sent: " + part.withheld);
  }
  for (const ScanProfile& p : profiles)  // where the scan starts, and which way it goes
    if (p.path.size() > 4) {
      canvas.arrow(p.path[0], p.path[std::min<size_t>(p.path.size() - 1, 12)], axis_color, 2, Stroke::solid);
      canvas.label(p.path[0] + Point2{-4, 8}, "0", axis_color, 11);
    }
  for (size_t i = 0; i < profiles.size(); ++i) draw_profile(canvas, profiles[i], charts[i]);
  const std::string found =
      report.unusable.empty() ? fmt::format("{} found, {} missed", report.parts.size(), report.misses.size())
                              : report.unusable;
  canvas.label({6, 6}, report.verdict ? fmt::format("{}: {}", word_of(*report.verdict), found) : found,
               {1, 1, 1}, 14);
  return canvas.image();
}

}  // namespace

Image<Rgb> draw_report(const ImageView<const uint8_t>& picture, const Report& report,
                       const Box* search_region, int shown_width) {
  return report_on(Canvas(picture), report, search_region, shown_width);
}

Image<Rgb> draw_report(const ImageView<const Rgb>& picture, const Report& report, const Box* search_region,
                       int shown_width) {
  return report_on(Canvas(picture), report, search_region, shown_width);
}

Image<Rgb> draw_residuals(const ImageView<const uint8_t>& picture, const std::vector<MappedPoint>& points,
                          const Mapping& mapping) {
  Canvas canvas(picture);
  double largest = 1e-9, sum = 0, far_mm = 0;
  for (const MappedPoint& p : points) {
    const double size = norm(p.residual_px);
    largest = std::max(largest, size), sum += size * size;
    far_mm = std::max({far_mm, std::abs(p.world_mm.x), std::abs(p.world_mm.y)});
  }
  double factor = 1;  // a round factor that makes the largest arrow about 30 pixels long
  for (const double f : {2.0, 5.0, 10.0, 20.0, 50.0, 100.0, 200.0, 500.0, 1000.0, 2000.0})
    if (f * largest <= 40) factor = f;
  for (const MappedPoint& p : points) {
    canvas.ring(p.pixel, 3, edge_color, 1.2);
    canvas.arrow(p.pixel, p.pixel + p.residual_px * factor, unseen_color, 1.5, Stroke::solid);
  }
  const double length = std::max(far_mm * 0.2, 1e-3);
  const Point2 zero = mapping.pixel_from_world({0, 0}), x = mapping.pixel_from_world({length, 0}),
               y = mapping.pixel_from_world({0, length});
  canvas.arrow(zero, x, axis_color, 2.5, Stroke::solid);
  canvas.arrow(zero, y, axis_color, 2.5, Stroke::dashed);
  canvas.label(x + Point2{6, -8}, "X");
  canvas.label(y + Point2{-8, -26}, "Y");
  canvas.label(
      {6, 6},
      fmt::format("{} points   rms {:.4f} px   largest {:.4f} px   arrows x {:.0f}", points.size(),
                  std::sqrt(sum / std::max<double>(1, static_cast<double>(points.size()))), largest, factor),
      {1, 1, 1}, 14);
  const double known = round_step(200 / factor);  // pixels; its arrow is 20 to 50 long
  const Point2 foot{12, picture.height() - 16.0};
  canvas.arrow(foot, foot + Point2{known * factor, 0}, unseen_color, 2, Stroke::solid);
  canvas.label(foot + Point2{known * factor + 8, -12}, fmt::format("{:g} px", known), {1, 1, 1}, 13);
  return canvas.image();
}

namespace {

/// A teaching report in a few short lines.
std::vector<std::string> lines_of(const TeachingReport& r) {
  std::vector<std::string> lines;
  lines.push_back(fmt::format(
      "one sigma of a find: x {:.4f} px  y {:.4f} px{}  scale {:.6f}", *r.expected.x, *r.expected.y,
      r.turns ? fmt::format("  angle {:.4f}\u00b0", r.expected.angle->degrees()) : "", *r.expected.scale));
  std::string turned = r.turns == 0  ? "the same at every angle"
                       : r.turns > 1 ? fmt::format("the same after {:g}\u00b0", 360.0 / r.turns)
                                     : "no symmetry";
  if (r.turned)
    turned += fmt::format("; most like itself turned by {:.0f}\u00b0: {:.0f}", r.turned->angle.degrees(),
                          r.turned->score);
  lines.push_back(turned);
  lines.push_back(fmt::format("contrast {:.0f}, weakest {:.0f}, noise {:.1f}; next best thing around it: {}",
                              r.median_contrast, r.weakest_contrast, r.noise_sigma,
                              r.elsewhere ? fmt::format("{:.0f}", r.elsewhere->score) : "none"));
  return lines;
}

void draw_pattern(Canvas& canvas, const PatternTarget& target, const TeachingReport* report, int zoom) {
  std::vector<std::pair<Point2, Point2>> segments;
  for (const TaughtEdge& e : target.edges()) {
    const Point2 at = e.place + target.origin(), along{-e.normal.y * 0.5, e.normal.x * 0.5};
    segments.emplace_back(at - along, at + along);
  }
  canvas.lines(segments, edge_color, 2);
  const Point2 middle = target.extent().centre();
  if (norm(middle) > 0.25 * std::min(target.extent().width, target.extent().height))
    canvas.line(target.origin() + middle, target.origin(), axis_color, 1, Stroke::dotted);
  draw_axes(canvas, target.origin(), {}, 0.2 * target.pixels().width());
  canvas.label({0, 0}, fmt::format("{}: {} edges of at least {:.0f} grey levels", target.name(),
                                   target.edges().size(), target.edge_threshold()));
  if (!report) return;
  const std::vector<std::string> lines = lines_of(*report);
  double y = target.pixels().height() - 22.0 * static_cast<double>(lines.size()) / zoom;
  for (const std::string& line : lines) {
    canvas.label({0, y}, line, {1, 1, 1}, 12);
    y += 22.0 / zoom;
  }
}

/// Kinds without a drawing of their own: their lines, and the results of teaching.
void draw_kind(Canvas& canvas, const Target& target, int zoom) {
  draw_traces(canvas, target.contours());
  const Point2 origin = target.taught().origin;
  if (target.symmetry_order() > 0)
    draw_axes(canvas, origin, {}, 0.2 * target.taught().pixels.width());
  else
    canvas.cross(origin, 7, axis_color, 2);
  canvas.label({0, 0}, fmt::format("{}: {}", target.name(), target.info().id));
  const double taught_height = target.taught().pixels.height();
  double y = 22.0 / zoom;
  for (const Measurement& f : target.facts()) {
    if (y + 20.0 / zoom > taught_height) break;
    canvas.label({0, y}, fmt::format("{} {:.4g}", f.name, f.value), {1, 1, 1}, 11);
    y += 20.0 / zoom;
  }
}

}  // namespace

Image<Rgb> draw_target(const Target& target, const TeachingReport* report) {
  const TaughtPicture& taught = target.taught();
  const int most = target.as<PatternTarget>() ? 8 : 32;  // a sample of a color may be a few pixels
  const int zoom = std::clamp(1000 / std::max(taught.pixels.width(), taught.pixels.height()), 1, most);
  Canvas canvas = taught.color.empty() ? Canvas(taught.pixels, zoom) : Canvas(taught.color, zoom);
  for (int y = 0; y < taught.mask.height(); ++y)
    for (int x = 0; x < taught.mask.width(); ++x)
      if (!taught.mask(x, y)) canvas.hatch(x, y);
  if (const auto* pattern = target.as<PatternTarget>())
    draw_pattern(canvas, *pattern, report, zoom);
  else
    draw_kind(canvas, target, zoom);
  return canvas.image();
}

}  // namespace heron
