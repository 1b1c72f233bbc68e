#include "heron/locate/stripe.hpp"
#include "heron/locate/names.hpp"

#include <fmt/format.h>

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

#include "geometry/robust_fit.hpp"
#include "heron/base/median.hpp"
#include "heron/base/work.hpp"
#include "locate/common/consensus.hpp"
#include "locate/common/find_options.hpp"
#include "locate/common/misses.hpp"
#include "locate/scan/scan.hpp"

namespace heron {
namespace {

using Color3 = Eigen::Vector3d;

/// What a pixel is worth along the way from the floor's look to the stripe's.
struct StripeLook {
  bool by_color = false;  ///< by the shares of red, green and blue; else by brightness
  Color3 along = Color3::Zero();
  double floor = 0, scale = 1;  ///< value = (along . p - floor) * scale: 0 floor, 100 stripe

  double operator()(const Color3& p) const {
    const Color3 q = by_color ? Color3(p / (p.sum() + 15)) : p;
    return (along.dot(q) - floor) * scale;
  }
};

Color3 color_of(const std::vector<double>& v) { return {v[0], v[1], v[2]}; }

StripeLook look_of(const StripeSettings& s, bool color) {
  StripeLook look;
  const Color3 stripe = color_of(s.stripe_color), floor = color_of(s.floor_color);
  const Color3 shares = stripe / (stripe.sum() + 15) - floor / (floor.sum() + 15);
  look.by_color = color && shares.norm() > 0.06;
  look.along = look.by_color ? shares.normalized() : Color3(0.299, 0.587, 0.114);
  const auto raw = [&](const Color3& p) {
    return look.along.dot(look.by_color ? Color3(p / (p.sum() + 15)) : p);
  };
  look.floor = raw(floor);
  const double apart = raw(stripe) - look.floor;
  look.scale = std::abs(apart) > 1e-9 ? 100 / apart : 1;
  return look;
}

Color3 pixel_at(const PreparedPicture& prepared, int x, int y) {
  if (!prepared.color().empty()) {
    const Rgb p = prepared.color()(x, y);
    return {static_cast<double>(p.r), static_cast<double>(p.g), static_cast<double>(p.b)};
  }
  return Color3::Constant(prepared.level(0)(x, y));
}

/// Noise of a profile by its bends, which steps hardly touch.
double noise_of(const std::vector<double>& v) {
  std::vector<double> bends;
  for (size_t i = 1; i + 1 < v.size(); ++i) bends.push_back(v[i - 1] - 2 * v[i] + v[i + 1]);
  return bends.empty() ? 1 : std::max(0.2, median_size(bends) / (0.6745 * std::sqrt(6.0)));
}

/// Two edges of a row that may be the stripe's.
struct Crossing {
  int scan = 0;
  double x = 0, y = 0, width = 0, sigma = 0, contrast = 0;
};

std::vector<Crossing> crossings_of(const PreparedPicture& prepared, const StripeSettings& s,
                                   const StripeLook& look, int scan, double y, Range<double> columns) {
  const int lines = 3, first = std::max(0, static_cast<int>(std::ceil(columns.min))),
            last = std::min(prepared.width() - 1, static_cast<int>(std::floor(columns.max)));
  if (last - first < 8) return {};
  std::vector<double> profile;
  for (int x = first; x <= last; ++x) {
    double sum = 0;
    for (int k = -(lines / 2); k <= lines / 2; ++k)
      sum += look(
          pixel_at(prepared, x, std::clamp(static_cast<int>(std::lround(y)) + k, 0, prepared.height() - 1)));
    profile.push_back(sum / lines);
  }
  const double noise = noise_of(profile), least = std::max(18.0, 5 * noise);
  const std::vector<ScanEdge> edges = edges_along(profile, false, least, noise);
  std::vector<Crossing> crossings;
  const double change = 1 + s.width_change / 100;
  for (size_t i = 0; i < edges.size(); ++i) {
    if (edges[i].contrast < 0) continue;
    for (size_t j = i + 1; j < edges.size(); ++j) {
      const double width = edges[j].at - edges[i].at;
      if (width > s.width * change) break;
      if (edges[j].contrast > 0 || width < s.width / change) continue;
      crossings.push_back({scan, first + 0.5 * (edges[i].at + edges[j].at), y, width,
                           0.5 * std::hypot(edges[i].sigma, edges[j].sigma),
                           0.5 * (edges[i].contrast - edges[j].contrast)});
    }
  }
  return crossings;
}

/// x = terms[0] + terms[1] v + terms[2] v v, with v the rows above `middle` over `half`.
struct Curve {
  Eigen::Vector3d terms = Eigen::Vector3d::Zero();
  double middle = 0, half = 1;
  double v(double y) const { return (middle - y) / half; }
  double x(double y) const { return terms[0] + terms[1] * v(y) + terms[2] * v(y) * v(y); }
  double slope(double y) const { return (terms[1] + 2 * terms[2] * v(y)) / half; }  ///< pixels right a row up
  double bend() const { return 2 * terms[2] / (half * half); }
};

double agreement(const Curve& curve, const std::vector<Crossing>& crossings, double within, int scans) {
  std::vector<double> best(static_cast<size_t>(scans), 0);
  for (const Crossing& c : crossings) {
    const double t = (c.x - curve.x(c.y)) / within;
    if (std::abs(t) < 1)
      best[static_cast<size_t>(c.scan)] = std::max(best[static_cast<size_t>(c.scan)], 1 - t * t);
  }
  double sum = 0;
  for (const double b : best) sum += b;
  return sum;
}

/// The parabola that most rows agree with, of those through three of the crossings.
std::optional<Curve> agreed_curve(const std::vector<Crossing>& crossings, const Curve& frame, double within,
                                  int scans) {
  const size_t n = crossings.size();
  if (n < 4) return std::nullopt;
  std::optional<Curve> best;
  double most = 0;
  SampleRandom draw;
  const auto pick = [&] { return crossings[draw.below(n)]; };
  for (int round = 0; round < 400; ++round) {
    const Crossing a = pick(), b = pick(), c = pick();
    if (std::abs(a.scan - b.scan) < 2 || std::abs(b.scan - c.scan) < 2 || std::abs(a.scan - c.scan) < 2)
      continue;
    Eigen::Matrix3d m;
    for (int i = 0; const Crossing* each : {&a, &b, &c}) {
      const double v = frame.v(each->y);
      m.row(i++) << 1, v, v * v;
    }
    Curve curve = frame;
    curve.terms = m.fullPivLu().solve(Eigen::Vector3d(a.x, b.x, c.x));
    // A stripe bends no tighter than it is long, and does not run across.
    if (!curve.terms.allFinite() || std::abs(curve.terms[2]) > 0.6 * frame.half ||
        std::abs(curve.terms[1]) > 3 * frame.half)
      continue;
    const double agree = agreement(curve, crossings, within, scans);
    if (agree > most) most = agree, best = curve;
  }
  return best;
}

struct CurveFit {
  Curve curve;
  Eigen::Matrix3d covariance = Eigen::Matrix3d::Zero();
  double seen = 0, width = 0, contrast = 0;
  double scatter = 0;      ///< rms distance of the rows that agree
  std::vector<bool> rows;  ///< of each scan: agrees
};

CurveFit settled(Curve curve, const std::vector<Crossing>& crossings, double within, int scans) {
  CurveFit fit;
  std::vector<FitRow<3>> rows;
  for (const Crossing& c : crossings) {
    const double v = curve.v(c.y);
    rows.push_back({{1, v, v * v}, c.x});
  }
  // Worn and soiled edges agree with the stripe more or less; rows that scatter more than most are outliers.
  constexpr double least = 1;  // pixel
  const auto robust = fit_robustly<3>(rows, curve.terms,
                                      {.least = least, .first = within, .rounds = 8, .sigmas_known = false});
  curve.terms = robust.unknowns;
  fit.curve = curve;
  fit.rows.assign(static_cast<size_t>(scans), false);
  std::vector<double> widths, contrasts;
  double squares = 0;
  for (const Crossing& c : crossings)
    if (const double off = c.x - curve.x(c.y); std::abs(off) < within) {
      squares += off * off;
      fit.rows[static_cast<size_t>(c.scan)] = true;
      widths.push_back(c.width), contrasts.push_back(c.contrast);
    }
  fit.width = median(widths), fit.contrast = median(contrasts);
  fit.seen = static_cast<double>(std::count(fit.rows.begin(), fit.rows.end(), true)) / scans;
  fit.scatter = std::sqrt(squares / std::max(1.0, static_cast<double>(widths.size())));
  fit.covariance = robust.covariance;
  return fit;
}

void require_valid(const StripeSettings& s) {
  if (!(s.width == 0 || (s.width >= 4 && s.width <= 2000)))
    fail_argument(
        fmt::format("a stripe's width of {:g} pixels must be from 4 to 2000, or 0 to learn it", s.width));
  if (!(s.width_change >= 1 && s.width_change <= 300))
    fail_argument(fmt::format("width change {:g} per cent must be from 1 to 300", s.width_change));
  if (s.scans < 8 || s.scans > 200) fail_argument(fmt::format("scans {} must be from 8 to 200", s.scans));
  if (s.top >= 0 && s.bottom >= 0 && !(s.bottom - s.top >= 16))
    fail_argument(fmt::format("rows {:g}..{:g} must be at least 16, the upper first", s.top, s.bottom));
}

}  // namespace

const KindInfo& StripeTarget::info() {
  static const KindInfo kind{.id = "stripe",
                             .what = "a line on the floor to follow",
                             .options = {"min score", "region"},
                             .looks_at_color = true,
                             .region_of_positions = false};
  return kind;
}

const std::vector<SettingRow<StripeSettings>>& StripeTarget::rows() {
  static const std::vector<SettingRow<StripeSettings>> rows{
      {"width", &StripeSettings::width, "width of the stripe, pixels; 0: learned"},
      {"width_change", &StripeSettings::width_change, "largest change of the width, per cent"},
      {"ahead", &StripeSettings::ahead,
       "row at which offset and heading are reported; below 0: the middle row"},
      {"top", &StripeSettings::top, "first row to scan; below 0: the region's first"},
      {"bottom", &StripeSettings::bottom, "last row to scan; below 0: the region's last"},
      {"scans", &StripeSettings::scans, "number of rows to scan"},
      {"stripe_color", &StripeSettings::stripe_color, "red, green, blue of the stripe at teaching", true},
      {"floor_color", &StripeSettings::floor_color, "red, green, blue of the floor at teaching", true}};
  return rows;
}

StripeTarget StripeTarget::taught_from(const TeachingPicture& from, StripeSettings s) {
  require_valid(s);
  TaughtPicture taught = cut_out(from, s.origin);
  const Box box = from.region.bounds();
  if (box.height < 16) fail_argument("teach: the region must be at least 16 rows high, along the stripe");
  const PreparedPicture prepared = from.color.empty() ? PreparedPicture(Image<uint8_t>(from.grey))
                                                      : PreparedPicture(Image<Rgb>(from.color));
  const int x0 = std::max(0, static_cast<int>(std::ceil(box.x))),
            y0 = std::max(0, static_cast<int>(std::ceil(box.y)));
  const int x1 = std::min(prepared.width(), static_cast<int>(box.x + box.width)),
            y1 = std::min(prepared.height(), static_cast<int>(box.y + box.height));
  // The sides are floor; the stripe is what in each row differs from them most.
  const int side = std::max(2, (x1 - x0) / 8);
  Color3 floor = Color3::Zero(), stripe = Color3::Zero();
  double floor_count = 0, stripe_count = 0;
  for (int y = y0; y < y1; ++y)
    for (int x = x0; x < x1; ++x)
      if (x < x0 + side || x >= x1 - side) floor += pixel_at(prepared, x, y), ++floor_count;
  floor /= std::max(floor_count, 1.0);
  double farthest = 0;
  for (int y = y0; y < y1; ++y)
    for (int x = x0 + side; x < x1 - side; ++x)
      farthest = std::max(farthest, (pixel_at(prepared, x, y) - floor).norm());
  for (int y = y0; y < y1; ++y)
    for (int x = x0 + side; x < x1 - side; ++x) {
      const Color3 p = pixel_at(prepared, x, y);
      if ((p - floor).norm() > 0.6 * farthest) stripe += p, ++stripe_count;
    }
  if (stripe_count < 16 || farthest < 12)
    fail_argument(fmt::format(
        "teach: nothing in the region's middle differs from its sides by more than {:.0f} grey levels; "
        "draw it across the stripe, with floor on both sides",
        farthest));
  stripe /= stripe_count;
  s.stripe_color = {stripe[0], stripe[1], stripe[2]}, s.floor_color = {floor[0], floor[1], floor[2]};
  if (s.top < 0) s.top = y0;
  if (s.bottom < 0) s.bottom = y1 - 1;
  if (s.width == 0) {
    StripeSettings any = s;
    any.width = 0.4 * (x1 - x0), any.width_change = 300;
    const StripeLook look = look_of(s, !prepared.color().empty());
    std::vector<double> widths;
    for (int i = 0; i < s.scans; ++i) {
      const auto crossings = crossings_of(prepared, any, look, i, y0 + (y1 - 1.0 - y0) * i / (s.scans - 1),
                                          {x0 + 0.0, x1 - 1.0});
      const auto best =
          std::max_element(crossings.begin(), crossings.end(),
                           [](const auto& a, const auto& b) { return a.contrast < b.contrast; });
      if (best != crossings.end()) widths.push_back(best->width);
    }
    if (static_cast<int>(widths.size()) < s.scans / 3)
      fail_argument(
          "teach: no stripe with two edges runs through the region from below to above; draw it across the "
          "stripe, "
          "with floor on both sides");
    s.width = median(widths);
  }
  return {std::move(taught), std::move(s)};
}

StripeTarget::StripeTarget(TaughtPicture taught, StripeSettings settings)
    : TaughtKind(std::move(taught), std::move(settings)) {
  require_valid(settings_);
  heron::require_valid(settings_.options, 1);
  if (settings_.width == 0 || settings_.stripe_color.size() != 3 || settings_.floor_color.size() != 3)
    fail_argument(fmt::format("'{}' lacks what was learned of its stripe; teach it again", settings_.name));
}

std::vector<Measurement> StripeTarget::facts() const {
  const StripeLook look = look_of(settings_, !taught_->color.empty());
  return {{"width", settings_.width}, {"by_color", look.by_color ? 1.0 : 0.0}};
}

FindResult find(const StripeTarget& target, const PreparedPicture& prepared, const FindOptions& options,
                Explain explain, Work* work) {
  require_valid(options, 1);
  const StripeSettings& s = target.settings();
  const StripeLook look = look_of(s, !prepared.color().empty());
  double left = 0, right = prepared.width() - 1, top = s.top >= 0 ? s.top : 0,
         bottom = s.bottom >= 0 ? s.bottom : prepared.height() - 1;
  if (!options.region.empty()) {
    const Box box = options.region.bounds();
    left = std::max(left, box.x), right = std::min(right, box.x + box.width);
    top = std::max(top, box.y), bottom = std::min(bottom, box.y + box.height);
  }
  bottom = std::min(bottom, prepared.height() - 1.0);
  FindResult result;
  if (bottom - top < 16 || right - left < 16) {
    result.misses.push_back({.x = 0.5 * (left + right), .y = 0.5 * (top + bottom)});
    result.misses.back().reasons.push_back(
        {limit::region, bottom - top, "at least 16 rows and columns of the picture"});
    return result;
  }
  std::vector<Crossing> crossings;
  for (int i = 0; i < s.scans && result.complete; ++i) {
    for (const Crossing& c : crossings_of(prepared, s, look, i, top + (bottom - top) * i / (s.scans - 1),
                                          {left + 0.0, right + 0.0}))
      crossings.push_back(c);
    result.complete = !(work && work->stopped());
  }
  Curve frame;
  frame.middle = 0.5 * (top + bottom), frame.half = 0.5 * (bottom - top);
  const double within = std::max(2.5, 0.12 * s.width);
  const auto start = agreed_curve(crossings, frame, within, s.scans);
  if (!start) {
    if (explain == Explain::never) return result;
    std::vector<bool> crossed(static_cast<size_t>(s.scans), false);
    for (const Crossing& c : crossings) crossed[static_cast<size_t>(c.scan)] = true;
    const auto rows = std::count(crossed.begin(), crossed.end(), true);
    result.misses.push_back({.x = 0.5 * (left + right), .y = frame.middle});
    result.misses.back().reasons.push_back(
        {limit::seen, 100.0 * static_cast<double>(rows) / s.scans,
         fmt::format("two edges {:.3g}..{:.3g} pixels apart, on one curve, in 4 rows or more",
                     s.width / (1 + s.width_change / 100), s.width * (1 + s.width_change / 100))});
    return result;
  }
  const CurveFit fit = settled(*start, crossings, within, s.scans);
  // Further lines: what is left over and holds together.
  int branches = 0;
  std::vector<Crossing> left_over = crossings;
  const auto drop = [&](const Curve& curve) {
    std::erase_if(left_over, [&](const Crossing& c) { return std::abs(c.x - curve.x(c.y)) < 0.8 * s.width; });
  };
  for (drop(fit.curve); branches < 3;) {
    const auto other = agreed_curve(left_over, frame, within, s.scans);
    if (!other || agreement(*other, left_over, within, s.scans) < 0.25 * s.scans) break;
    ++branches;
    drop(*other);
  }
  const double ahead = s.ahead >= 0 ? std::clamp(s.ahead, top, bottom) : frame.middle;
  const double v = fit.curve.v(ahead), slope = fit.curve.slope(ahead);
  Detection one{.target = s.name, .x = fit.curve.x(ahead), .y = ahead};
  one.angle = radians(std::atan(slope));
  const Eigen::Vector3d to_x(1, v, v * v), to_slope(0, 1 / fit.curve.half, 2 * v / fit.curve.half);
  const double across = 1 / (1 + slope * slope);
  one.sigma.x = std::sqrt(to_x.dot(fit.covariance * to_x));
  one.sigma.angle = radians(std::sqrt(to_slope.dot(fit.covariance * to_slope)) * across);
  const double rough = fit.scatter / within;
  one.score = 100 * fit.seen * std::clamp(1.15 - 1.5 * rough * rough, 0.2, 1.0);
  one.contrast = fit.contrast;
  one.measurements = {{measurement::offset, one.x - 0.5 * (prepared.width() - 1)},
                      {measurement::width, fit.width * std::sqrt(across)},
                      {measurement::curvature, fit.curve.bend() * std::pow(across, 1.5)},
                      {measurement::seen, 100 * fit.seen},
                      {measurement::branches, static_cast<double>(branches)}};
  for (int i = 0; i < s.scans;) {  // pieces by whether their rows agree
    int end = i + 1;
    while (end < s.scans && fit.rows[static_cast<size_t>(end)] == fit.rows[static_cast<size_t>(i)]) ++end;
    Contour piece{.points = {}, .closed = false, .seen = fit.rows[static_cast<size_t>(i)]};
    for (int k = i; k <= std::min(end, s.scans - 1); ++k) {
      const double y = top + (bottom - top) * k / (s.scans - 1);
      piece.points.push_back({fit.curve.x(y), y});
    }
    one.contours.push_back(std::move(piece));
    i = end;
  }
  FindOptions without_region = options;  // which rows and columns are looked at, not where the stripe leads
  without_region.region = {};
  take(result, std::move(one), without_region);
  return result;
}

}  // namespace heron
