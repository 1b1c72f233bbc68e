#include "heron/light/light.hpp"
#include "base/tukey.hpp"

#include <fmt/format.h>

#include <Eigen/SVD>
#include <algorithm>
#include <cmath>
#include <limits>

#include "edge_quality.hpp"
#include "geometry/linear.hpp"
#include "heron/base/error.hpp"
#include "heron/calibrate/board.hpp"
#include "heron/feature/board_points.hpp"
#include "heron/geometry/homography.hpp"
#include "heron/image/components.hpp"
#include "heron/image/noise.hpp"
#include "light_advice.hpp"

namespace heron {
namespace {

constexpr double nan = std::numeric_limits<double>::quiet_NaN();

/// The region's box within the picture, and which of its pixels count.
struct Scope {
  int x0 = 0, y0 = 0;
  ImageView<const uint8_t> pixels;
  Image<uint8_t> mask;
  int count = 0;
};

/// First pixel and size of the region's box, cut to a picture of that size.
struct Cut {
  int x0, y0, width, height;
};

Cut cut_of(const Region& region, int width, int height) {
  if (region.empty()) return {0, 0, width, height};
  const Box b = region.bounds();
  const int x0 = static_cast<int>(std::clamp(std::ceil(b.x), 0.0, static_cast<double>(width))),
            y0 = static_cast<int>(std::clamp(std::ceil(b.y), 0.0, static_cast<double>(height)));
  const int x1 = static_cast<int>(std::clamp(std::ceil(b.x + b.width), 0.0, static_cast<double>(width))),
            y1 = static_cast<int>(std::clamp(std::ceil(b.y + b.height), 0.0, static_cast<double>(height)));
  return {x0, y0, x1 - x0, y1 - y0};
}

template <class T>
ImageView<const T> cut(const ImageView<const T>& picture, const Cut& c) {
  return {picture.row(c.y0) + c.x0, c.width, c.height, picture.stride()};
}

/// The region's mask inside the cut.
Image<uint8_t> mask_of(const Region& region, const Cut& c) {
  Image<uint8_t> mask(c.width, c.height);
  for (int y = 0; y < c.height; ++y)
    for (int x = 0; x < c.width; ++x)
      mask(x, y) =
          region.empty() || region.contains({static_cast<double>(x + c.x0), static_cast<double>(y + c.y0)})
              ? 255
              : 0;
  return mask;
}

void require_room(const Cut& c, int count) {
  if (c.width < 32 || c.height < 32 || count < 512)
    fail_argument(
        fmt::format("light: the region holds {} x {} pixels of the picture, {} of them count; at least 32 x "
                    "32 are needed",
                    std::max(0, c.width), std::max(0, c.height), count));
}

Scope scope_of(const ImageView<const uint8_t>& picture, const Region& region) {
  const Cut c = cut_of(region, picture.width(), picture.height());
  if (c.width < 1 || c.height < 1) require_room(c, 0);
  Scope s{c.x0, c.y0, cut(picture, c), mask_of(region, c), 0};
  for (int y = 0; y < c.height; ++y)
    s.count += static_cast<int>(std::count(s.mask.row(y), s.mask.row(y) + c.width, uint8_t{255}));
  require_room(c, s.count);
  return s;
}

int percentile(const std::array<int, 256>& histogram, int count, double share) {
  double below = 0;
  for (int level = 0; level < 256; ++level)
    if ((below += histogram[static_cast<size_t>(level)]) >= share * count) return level;
  return 255;
}

double at_share(std::vector<double> values, double share) {
  if (values.empty()) return nan;
  const auto at =
      values.begin() + static_cast<std::ptrdiff_t>(share * static_cast<double>(values.size() - 1));
  std::nth_element(values.begin(), at, values.end());
  return *at;
}

Fitness by_limits(double value, double good, double poor) {
  if (std::isnan(value)) return Fitness::poor;
  return (good < poor ? value <= good : value >= good)   ? Fitness::good
         : (good < poor ? value <= poor : value >= poor) ? Fitness::fair
                                                         : Fitness::poor;
}

/// Light over the region, as a quadratic surface through the logarithms of tile medians; tiles that parts
/// cover are weighed down (Tukey). Coordinates run from -1 to 1.
struct LightField {
  Eigen::Matrix<double, 6, 1> surface = Eigen::Matrix<double, 6, 1>::Zero();
  double level(double x, double y) const { return std::exp(surface.dot(terms(x, y))); }
  static Eigen::Matrix<double, 6, 1> terms(double x, double y) {
    return (Eigen::Matrix<double, 6, 1>() << 1, x, y, x * x, x * y, y * y).finished();
  }
};

LightField light_field(const Scope& s) {
  constexpr int tiles = 9;
  std::vector<std::pair<Eigen::Matrix<double, 6, 1>, double>> samples;
  for (int j = 0; j < tiles; ++j)
    for (int i = 0; i < tiles; ++i) {
      std::array<int, 256> histogram{};
      int count = 0;
      const int x0 = i * s.pixels.width() / tiles, x1 = (i + 1) * s.pixels.width() / tiles,
                y0 = j * s.pixels.height() / tiles, y1 = (j + 1) * s.pixels.height() / tiles;
      for (int y = y0; y < y1; ++y)
        for (int x = x0; x < x1; ++x)
          if (s.mask(x, y)) ++histogram[s.pixels(x, y)], ++count;
      if (count < 9) continue;
      samples.emplace_back(LightField::terms((i + 0.5) * 2 / tiles - 1, (j + 0.5) * 2 / tiles - 1),
                           std::log(std::max(1.0, percentile(histogram, count, 0.5) + 0.0)));
    }
  LightField field;
  std::vector<double> weights(samples.size(), 1.0);
  // The level that most tiles share is the ground; parts stand out from it.
  std::vector<double> logs;
  for (const auto& [terms, value] : samples) logs.push_back(value);
  field.surface[0] = at_share(logs, 0.5);
  double width = 1.0;
  for (int round = 0; round < 12; ++round) {
    Eigen::Matrix<double, 6, 6> a = Eigen::Matrix<double, 6, 6>::Identity() * 1e-3;
    Eigen::Matrix<double, 6, 1> b = Eigen::Matrix<double, 6, 1>::Zero();
    b[0] = 1e-3 * field.surface[0];
    for (const auto& [terms, value] : samples) {
      const double w = tukey_weight((value - field.surface.dot(terms)) / width);
      a += w * terms * terms.transpose(), b += w * value * terms;
    }
    field.surface = solve_symmetric(a, b).col(0);
    width = std::max(0.25, width * 0.8);
  }
  return field;
}

LightMeasure evenness_of(const Scope& s, std::string& dark_side) {
  const LightField field = light_field(s);
  double low = std::numeric_limits<double>::infinity(), high = 0;
  static constexpr const char* names[3][3] = {{"top left", "top", "top right"},
                                              {"left", "middle", "right"},
                                              {"bottom left", "bottom", "bottom right"}};
  for (int j = 0; j < 3; ++j)
    for (int i = 0; i < 3; ++i) {
      const double v = field.level(0.9 * (i - 1), 0.9 * (j - 1));
      // A corner is named only when it is clearly darker than the sides beside it.
      if (v < low * (i != 1 && j != 1 ? 0.97 : 1.03) || low > 1e300) dark_side = names[j][i];
      low = std::min(low, v);
      high = std::max(high, v);
    }
  const double lost = 100 * (1 - low / high);
  return {"uniformity", lost, "%", light_fitness("uniformity", lost),
          fmt::format("the {} gets {:.0f} % less light than the brightest side", dark_side, lost)};
}

std::vector<GlareSpot> glares_of(const Scope& s) {
  Image<uint8_t> clipped(s.pixels.width(), s.pixels.height());
  for (int y = 0; y < clipped.height(); ++y)
    for (int x = 0; x < clipped.width(); ++x) clipped(x, y) = s.mask(x, y) && s.pixels(x, y) >= 250 ? 255 : 0;
  std::vector<GlareSpot> spots;
  for (const Component& c : components(clipped)) {
    if (c.area < 25 || c.area > 0.08 * s.count) continue;
    const double radius = std::sqrt(c.area / std::numbers::pi),
                 determinant = std::max(1e-9, c.xx * c.yy - c.xy * c.xy);
    if (c.area / (4 * std::numbers::pi * std::sqrt(determinant)) < 0.6)
      continue;  // a frame or a streak of paper, no spot
    // A reflection fades over many pixels; a white thing ends within the lens' blur.
    std::vector<double>
        kept;  // share of the fall from white to the surroundings that is still to come 3 px beyond the rim
    for (int k = 0; k < 32; ++k) {
      const Point2 d = unit(degrees(11.25 * k));
      const double rim =
          2 / std::sqrt(
                  std::max(1e-9, (c.yy * d.x * d.x - 2 * c.xy * d.x * d.y + c.xx * d.y * d.y) / determinant));
      const auto grey = [&](double reach) -> double {
        const int x = static_cast<int>(std::lround(c.x + reach * d.x)),
                  y = static_cast<int>(std::lround(c.y + reach * d.y));
        return s.pixels.holds(x, y) ? s.pixels(x, y) : nan;
      };
      const double near = grey(rim + 3), far = grey(rim + 12);
      if (far < 245) kept.push_back((near - far) / (255 - far));
    }
    if (kept.size() > 8 && at_share(kept, 0.5) > 0.4) spots.push_back({{c.x + s.x0, c.y + s.y0}, radius});
  }
  return spots;
}

/// The tilt that a shape of that axis ratio shows, when it is round.
LightMeasure squareness(double ratio, double direction, const std::string& shown_by) {
  const double tilt = radians(std::acos(std::clamp(ratio, 0.0, 1.0))).degrees();
  return {"perpendicularity", tilt, "\u00b0", by_limits(tilt, 6, 20),
          fmt::format("{} {:.0f} degrees of tilt, about the picture's direction {:.0f} degrees", shown_by,
                      tilt, radians(direction).degrees())};
}

LightMeasure square_of(const ImageView<const uint8_t>& picture, const Scope& s, const LightOptions& o) {
  if (o.board) {
    const BoardSeen seen = find_board(picture, *o.board, {.any_part = true});
    if (!seen.found)
      return {"perpendicularity", nan, "\u00b0", Fitness::fair, "the board is not seen: " + seen.reason};
    std::vector<Point2> from, to;
    Point2 middle;
    for (const BoardPoint& p : seen.points) {
      from.push_back(o.board->point(p.column, p.row)), to.push_back(p.pixel);
      middle += from.back() / static_cast<double>(seen.points.size());
    }
    if (const auto h = homography_from_points(from, to)) {
      const Eigen::JacobiSVD<Eigen::Matrix2d> svd(jacobian(*h, middle), Eigen::ComputeFullU);
      return squareness(svd.singularValues()[1] / svd.singularValues()[0],
                        std::atan2(svd.matrixU()(1, 0), svd.matrixU()(0, 0)), "the board shows");
    }
  }
  // Round shapes, whichever way they stand out. Shapes that are not round disagree with one another, and then
  // nothing is said.
  std::vector<double> difference, twist;
  for (const bool bright : {false, true})
    for (const DotSeen& d :
         find_dots(s.pixels, std::max(31, std::min(s.pixels.width(), s.pixels.height()) / 6) | 1, bright)) {
      if (d.radius_px < 6) continue;
      const double segment = (1 - d.axis_ratio * d.axis_ratio) / (1 + d.axis_ratio * d.axis_ratio);
      difference.push_back(segment * std::cos(2 * d.long_axis)),
          twist.push_back(segment * std::sin(2 * d.long_axis));
    }
  const size_t count = difference.size();
  const LightMeasure unknown{"perpendicularity", nan, "\u00b0", Fitness::unknown,
                             "no board and too few round shapes that agree to tell"};
  if (count < 4) return unknown;
  const double x = at_share(difference, 0.5), y = at_share(twist, 0.5);
  std::vector<double> apart;
  for (size_t i = 0; i < count; ++i) apart.push_back(std::hypot(difference[i] - x, twist[i] - y));
  if (at_share(apart, 0.5) > 0.05) return unknown;
  const double segment = std::hypot(x, y);
  return squareness(std::sqrt((1 - segment) / (1 + segment)), 0.5 * std::atan2(y, x),
                    fmt::format("{} round shapes show", count));
}

void require_valid(const LightOptions& o) {
  const auto positive = [](double v) { return v > 0 && std::isfinite(v); };
  if (o.exposure_ms && !positive(*o.exposure_ms)) fail_argument("light: the exposure must be above 0 ms");
  if (!(o.longest_exposure_ms >= 0) || !(o.moving_px_per_ms >= 0))
    fail_argument("light: longest exposure and speed cannot be negative");
  if (o.board) o.board->require_valid();
}

}  // namespace

Fitness light_fitness(const std::string& measure, double value) {
  struct Limits {
    const char* measure;
    double good, poor;
  };
  static constexpr Limits all[] = {{"saturation", 0.1, 2}, {"underexposure", 5, 40}, {"contrast", 35, 15},
                                   {"uniformity", 20, 45}, {"sharpness", 4, 7},      {"noise", 3.5, 7},
                                   {"glare", 0, 2}};
  for (const Limits& l : all)
    if (measure == l.measure) return by_limits(value, l.good, l.poor);
  return Fitness::unknown;
}

const LightMeasure& LightReport::measure(const std::string& name) const {
  for (const LightMeasure& m : measures)
    if (m.name == name) return m;
  fail_argument("light: nothing is measured under the name '" + name + "'");
}

LightReport judge_light(const ImageView<const uint8_t>& picture, const LightOptions& options) {
  require_valid(options);
  const Scope s = scope_of(picture, options.region);
  LightReport report;
  for (int y = 0; y < s.pixels.height(); ++y)
    for (int x = 0; x < s.pixels.width(); ++x)
      if (s.mask(x, y)) ++report.histogram[s.pixels(x, y)];
  const auto share = [&](int first, int last) {
    double sum = 0;
    for (int level = first; level <= last; ++level) sum += report.histogram[static_cast<size_t>(level)];
    return 100 * sum / s.count;
  };
  const int bright = percentile(report.histogram, s.count, 0.98);
  const double clipped = share(254, 255), black = share(0, 1), noise = noise_sigma(s.pixels);
  const std::vector<EdgeQuality> edges = strong_edges(s.pixels, s.mask, noise);
  std::vector<double> steps, widths;
  for (const EdgeQuality& e : edges) {
    steps.push_back(e.step);
    if (e.width > 0) widths.push_back(e.width);
  }
  const double contrast = edges.size() < 5 ? nan : at_share(steps, 0.75),
               width = widths.size() < 5 ? nan : at_share(widths, 0.3);
  report.glares = glares_of(s);

  auto& m = report.measures;
  m.push_back({"brightness", static_cast<double>(bright), "grey levels",
               bright < 60                                  ? Fitness::poor
               : bright < min_bright || bright > max_bright ? Fitness::fair
                                                            : Fitness::good,
               bright >= 255 ? fmt::format("2 % or more lie at 255, the end of the scale; {} to {} is good",
                                           min_bright, max_bright)
                             : fmt::format("the brightest 2 % lie above {}; {} to {} is good", bright,
                                           min_bright, max_bright)});
  m.push_back({"saturation", clipped, "%", light_fitness("saturation", clipped),
               fmt::format("{:.2f} % of the pixels are white and hold nothing", clipped)});
  m.push_back({"underexposure", black, "%", light_fitness("underexposure", black),
               fmt::format("{:.2f} % of the pixels are black and hold nothing", black)});
  m.push_back({"contrast", contrast, "grey levels", light_fitness("contrast", contrast),
               std::isnan(contrast)
                   ? "no edges stand out of the noise"
                   : fmt::format("strong edges step by {:.0f} grey levels, {:.0f} times the noise", contrast,
                                 contrast / std::max(noise, 0.3))});
  std::string dark_side;
  m.push_back(evenness_of(s, dark_side));
  m.push_back({"sharpness", width, "px",
               std::isnan(width) ? Fitness::unknown : light_fitness("sharpness", width),
               std::isnan(width) ? "no edge stands alone, so its width cannot be told"
                                 : fmt::format("edges rise from 10 to 90 % within {:.1f} pixels", width)});
  m.push_back({"noise", noise, "grey levels", light_fitness("noise", noise),
               fmt::format("sigma {:.1f} grey levels", noise)});
  m.push_back(
      {"glare", static_cast<double>(report.glares.size()), "spots",
       light_fitness("glare", static_cast<double>(report.glares.size())),
       report.glares.empty()
           ? "none"
           : fmt::format("{} clipped spots with a soft rim, the largest of {:.0f} px", report.glares.size(),
                         2 * std::max_element(report.glares.begin(), report.glares.end(),
                                              [](const GlareSpot& a, const GlareSpot& b) {
                                                return a.radius_px < b.radius_px;
                                              })
                                 ->radius_px)});
  m.push_back(square_of(picture, s, options));
  for (const LightMeasure& one : m) report.overall = std::max(report.overall, one.fitness);
  report.advice = light_advice(report, options, bright, dark_side);
  return report;
}

LightReport judge_heights(const ImageView<const float>& map, const Region& region) {
  const Cut c = cut_of(region, map.width(), map.height());
  if (c.width < 1 || c.height < 1) require_room(c, 0);
  const Image<uint8_t> mask = mask_of(region, c);
  const ImageView<const float> pixels = cut(map, c);
  int count = 0, holes = 0;
  for (int y = 0; y < c.height; ++y)
    for (int x = 0; x < c.width; ++x)
      if (mask(x, y)) ++count, holes += std::isfinite(pixels(x, y)) ? 0 : 1;
  require_room(c, count);
  const double share = 100.0 * holes / count;
  LightReport report;
  report.measures.push_back({"holes", share, "%", by_limits(share, 5, 25),
                             holes == count
                                 ? "nothing was measured at all"
                                 : fmt::format("nothing was measured at {:.1f} % of the places", share)});
  report.overall = report.measures[0].fitness;
  if (report.overall != Fitness::good)
    report.advice.emplace_back(
        "holes come from places that the sensor's lamp or camera cannot see, or that shine or swallow its "
        "light: turn the sensor, lengthen its exposure, or take several exposures");
  return report;
}

}  // namespace heron
