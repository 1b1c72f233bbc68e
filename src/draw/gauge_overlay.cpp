#include "gauge_overlay.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "heron/image/region.hpp"

namespace heron::draw {
namespace {

constexpr Color good_color{0.45, 0.95, 0.55}, bad_color{1.0, 0.42, 0.35}, open_color{1.0, 0.8, 0.3};
constexpr double words_size = 11;

Color color_of(Verdict verdict) {
  return verdict == Verdict::good ? good_color : verdict == Verdict::bad ? bad_color : open_color;
}

std::string limits_of(const Limits& l) {
  if (l.min && l.max) return fmt::format(" ({:.4g}..{:.4g})", *l.min, *l.max);
  if (l.min) return fmt::format(" (at least {:.5g})", *l.min);
  if (l.max) return fmt::format(" (at most {:.5g})", *l.max);
  return {};
}

std::string words_of(const Reading& r) {
  const std::string name = r.fixed ? r.gauge + " (fixed)" : r.gauge;
  if (r.kind == "crop" && !r.text.empty())
    return (r.state == Verdict::bad ? "BAD  " : "") + fmt::format("{}: \"{}\"", name, r.text);
  if (!r.value) return fmt::format("{}: {}", name, word_of(r.state));
  const std::string value = fmt::format("{}: {:.4g}{}{}", name, *r.value, r.unit.empty() ? "" : " ", r.unit);
  return r.state == Verdict::bad ? "BAD  " + value + limits_of(r.limits)
                                 : value + (r.undecided ? "  undecided" : "");
}

/// Places for labels that lie over none before.
class LabelPlaces {
 public:
  LabelPlaces(double width, double height) : width_(width), height_(height) {}
  void keep_free(const Box& box) { taken_.push_back(box); }
  void keep_free(Point2 at) { taken_.push_back({at.x - 4, at.y - 4, 8, 8}); }
  Point2 beside(Point2 at, Point2 size) {
    Box best{};
    double least = 1e300;
    for (double far = 10; far < 160; far += 14)
      for (const auto& [x, y] :
           {std::pair{1.0, -1.0}, {1.0, 1.0}, {-1.0, -1.0}, {-1.0, 1.0}, {0.0, -1.0}, {0.0, 1.0}}) {
        Box box{at.x + x * far -
                    (x < 0    ? size.x
                     : x == 0 ? size.x / 2
                              : 0),
                at.y + y * far - (y < 0 ? size.y : 0), size.x, size.y};
        box.x = std::clamp(box.x, 0.0, std::max(0.0, width_ - size.x));
        box.y = std::clamp(box.y, 0.0, std::max(0.0, height_ - size.y));
        const double covered = covered_by(box);
        if (covered < least) least = covered, best = box;
        if (covered == 0) return take(box);
      }
    return take(best);
  }

 private:
  Point2 take(const Box& box) {
    taken_.push_back(box);
    return {box.x, box.y};
  }
  double covered_by(const Box& box) const {
    double sum = 0;
    for (const Box& t : taken_)
      sum += std::max(0.0, std::min(box.x + box.width, t.x + t.width) - std::max(box.x, t.x)) *
             std::max(0.0, std::min(box.y + box.height, t.y + t.height) - std::max(box.y, t.y));
    return sum;
  }
  double width_, height_;
  std::vector<Box> taken_;
};

void draw_reading(Canvas& canvas, const Reading& r) {
  const Color color = color_of(r.state);
  const bool measured = r.value.has_value();
  const double width = r.state == Verdict::bad ? 3 : 1.8;
  for (const Contour& c : r.contours) {
    if (c.closed && !c.seen)
      canvas.path(c.points, true, region_color, 0.9, measured ? Stroke::dashed : Stroke::dotted);
    else
      canvas.path(c.points, c.closed, color, width, c.seen ? Stroke::solid : Stroke::dotted);
  }
  for (const GaugeItem& item : r.items)
    if (item.counted)
      canvas.ring(item.at, 2.5, color, 1.1);
    else
      canvas.cross(item.at, 4, open_color, 1.4);
  if (r.state == Verdict::bad) canvas.cross(r.at, 8, bad_color, 3);
}

/// A part with its verdict: origin and x axis, number, name.
void draw_part(Canvas& canvas, LabelPlaces& places, const ReportedPart& part, size_t number) {
  const Detection& s = part.detection;
  const Point2 at{s.x, s.y};
  if (s.has_angle) canvas.arrow(at, at + unit(s.angle) * 40, axis_color, 2, Stroke::solid);
  canvas.ring(at, 4, axis_color, 1.5);
  const std::string words = fmt::format("{} {}{}", number, s.target,
                                        part.verdict ? fmt::format(": {}", word_of(*part.verdict)) : "");
  canvas.label(places.beside(at, canvas.label_size(words)), words,
               part.verdict ? color_of(*part.verdict) : Color{1, 1, 1});
}

}  // namespace

void draw_readings(Canvas& canvas, const Report& report, const std::vector<Box>& charts, double words_by) {
  for (const Reading& r : report.readings) draw_reading(canvas, r);
  LabelPlaces places(canvas.width(), canvas.height());
  for (const Reading& r : report.readings) places.keep_free(r.at);
  for (const ReportedPart& p : report.parts) places.keep_free(Point2{p.detection.x, p.detection.y});
  for (const Box& chart : charts) places.keep_free(chart);
  places.beside({0, 0}, Point2{260, 24} * words_by);  // the headline
  for (size_t i = 0; i < report.parts.size(); ++i) draw_part(canvas, places, report.parts[i], i + 1);
  // What is not good comes first, to lie nearest.
  for (const bool good : {false, true})
    for (const Reading& r : report.readings) {
      if ((r.state == Verdict::good) != good || (!r.part && !r.value && r.contours.empty())) continue;
      const std::string words = words_of(r);
      const Point2 size = canvas.label_size(words, words_size), at = places.beside(r.at, size);
      const Point2 nearest{std::clamp(r.at.x, at.x, at.x + size.x), std::clamp(r.at.y, at.y, at.y + size.y)};
      if (distance(nearest, r.at) > 12) canvas.line(nearest, r.at, color_of(r.state), 0.8, Stroke::dotted);
      canvas.label(at, words, color_of(r.state), words_size);
    }
}

}  // namespace heron::draw
