#include "scan.hpp"

#include <fmt/format.h>

#include <Eigen/Cholesky>
#include <algorithm>
#include <cmath>

#include "feature/blurred_step.hpp"
#include "heron/image/sample.hpp"
#include "image/sample_line.hpp"

namespace heron {
namespace {

void require_finite(const std::vector<double>& numbers, size_t count, const char* what, const char* form) {
  if (numbers.size() != count) fail_argument(fmt::format("{} must be {} numbers: {}", what, count, form));
  for (const double v : numbers)
    if (!std::isfinite(v)) fail_argument(fmt::format("{} must be finite numbers: {}", what, form));
}

/// Index of a step, which a ring continues past its end.
double value_at(const std::vector<double>& v, int i, bool round) {
  const int n = static_cast<int>(v.size());
  if (round) return v[static_cast<size_t>(((i % n) + n) % n)];
  return v[static_cast<size_t>(std::clamp(i, 0, n - 1))];
}

}  // namespace

Scan Scan::band(const std::vector<double>& n, const char* what) {
  require_finite(n, 5, what, "x, y, length, width, angle");
  if (!(n[2] >= 6 && n[3] >= 1 && n[2] < 1e5 && n[3] < 1e5))
    fail_argument(
        fmt::format("{} is {:g} pixels long and {:g} wide; it must be at least 6 long, along the scan, and 1 "
                    "wide",
                    what, n[2], n[3]));
  Scan s;
  s.centre_ = {n[0], n[1]}, s.length_ = n[2], s.width_ = n[3], s.along_ = unit(degrees(n[4]));
  s.steps_ = static_cast<int>(std::floor(n[2])) + 1;
  s.lanes_ = std::max(1, static_cast<int>(std::lround(n[3])));
  return s;
}

Scan Scan::arc(const std::vector<double>& n) {
  require_finite(n, 6, "arc", "x, y, inner radius, outer radius, start, turn");
  if (!(n[2] >= 2 && n[3] > n[2] && n[3] < 1e5))
    fail_argument(
        fmt::format("an arc's radii {:g} and {:g} must be at least 2, the inner first", n[2], n[3]));
  if (!(std::abs(n[5]) > 0 && std::abs(n[5]) <= 360))
    fail_argument(fmt::format("an arc that turns by {:g} degrees must turn by up to 360, either way", n[5]));
  Scan s;
  s.is_arc_ = true, s.round_ = std::abs(n[5]) == 360;
  s.centre_ = {n[0], n[1]}, s.radius_ = 0.5 * (n[2] + n[3]), s.width_ = n[3] - n[2];
  s.start_ = degrees(n[4]).radians(), s.sweep_ = degrees(n[5]).radians();
  const double length = s.radius_ * std::abs(s.sweep_);
  if (length < 6) fail_argument(fmt::format("the arc is {:.1f} pixels long; it must be at least 6", length));
  const int whole = std::max(6, static_cast<int>(std::lround(length)));
  s.per_step_ = length / whole;
  s.steps_ = s.round_ ? whole : whole + 1;
  s.lanes_ = std::max(1, static_cast<int>(std::lround(s.width_)));
  return s;
}

Scan Scan::fan(const std::vector<double>& numbers) {
  const Scan ring = arc(numbers);
  Scan s;
  s.is_fan_ = true, s.start_ = ring.start_, s.sweep_ = ring.sweep_;
  return s.about(ring.centre_, numbers[2], numbers[3]);
}

Scan Scan::about(Point2 centre, double inner, double outer) const {
  Scan s = *this;
  s.centre_ = centre, s.radius_ = 0.5 * (inner + outer), s.length_ = outer - inner;
  s.width_ = s.radius_ * std::abs(sweep_);
  s.steps_ = static_cast<int>(std::floor(s.length_ + 1e-9)) + 1;
  s.lanes_ = std::max(1, static_cast<int>(std::lround(s.width_)));
  return s;
}

Point2 Scan::at(double along, double across) const {
  if (is_fan_) {
    const double turn = start_ + 0.5 * sweep_ + across / radius_;
    return centre_ + unit(radians(turn)) * (radius_ - 0.5 * length_ + along);
  }
  if (is_arc_) return on_arc(outwards(along), across);
  return centre_ + along_ * (along - 0.5 * length_) + Point2{-along_.y, along_.x} * across;
}

double Scan::bend(double slope, double across) const {
  if (!is_arc_) return 0;
  // From the point on the middle line by t outwards and k t along, until `across` further from the centre.
  const double k = slope * per_step_, square = 1 + k * k, r = radius_,
               t = (std::sqrt(std::max(0.0, r * r + square * across * (2 * r + across))) - r) / square;
  return (r * std::atan2(k * t, r + t) - k * across) / per_step_;
}

Point2 Scan::direction(double along) const {
  if (is_fan_) return unit(radians(start_ + 0.5 * sweep_));
  if (!is_arc_) return along_;
  const double way = sweep_ < 0 ? -1 : 1, turn = start_ + way * along / radius_;
  return Point2{-std::sin(turn), std::cos(turn)} * way;
}

std::vector<Point2> Scan::border() const {
  std::vector<Point2> points;
  if (is_fan_) {
    const int count = std::max(8, lanes_ / 3);
    for (int i = 0; i <= count; ++i) points.push_back(at(0, width_ * (static_cast<double>(i) / count - 0.5)));
    for (int i = count; i >= 0; --i)
      points.push_back(at(length_, width_ * (static_cast<double>(i) / count - 0.5)));
    return points;
  }
  const int count = is_arc_ ? std::max(8, steps_ / 3) : 1;
  const double end = is_arc_ ? radius_ * std::abs(sweep_) : length_;
  for (int i = 0; i <= count; ++i) points.push_back(at(end * i / count, -0.5 * width_));
  for (int i = count; i >= 0; --i) points.push_back(at(end * i / count, 0.5 * width_));
  return points;
}

bool Scan::inside(int width, int height) const {
  const auto points = border();
  return std::all_of(points.begin(), points.end(), [&](Point2 p) {
    return p.x >= -0.5 && p.y >= -0.5 && p.x <= width - 0.5 && p.y <= height - 0.5;
  });
}

std::vector<double> profile_along(const Image<uint8_t>& picture, const Scan& scan, int first, int end) {
  std::vector<double> profile(static_cast<size_t>(scan.steps()));
  const double right = picture.width() - 1, bottom = picture.height() - 1;
  const auto within = [&](Point2 p) { return can_sample_inside(picture.view(), p); };
  const double end_of_scan = (scan.steps() - 1) * scan.per_step(), a = scan.lane(first),
               b = scan.lane(end - 1);
  if (scan.is_straight() && within(scan.at(0, a)) && within(scan.at(0, b)) &&
      within(scan.at(end_of_scan, a)) && within(scan.at(end_of_scan, b))) {
    // A band inside the picture: straight lanes, nothing to hold back at a border.
    std::vector<float> sums(profile.size());
    const Point2 step = scan.direction(0) * scan.per_step();
    for (int i = first; i < end; ++i) add_samples(picture, scan.at(0, scan.lane(i)), step, sums);
    for (size_t k = 0; k < profile.size(); ++k) profile[k] = sums[k] / static_cast<double>(end - first);
    return profile;
  }
  const Point2 outer{scan.outer() + 1, scan.outer() + 1};
  if (scan.is_fan() && within(scan.centre() - outer) && within(scan.centre() + outer)) {
    // The lanes of a fan are straight, each in its own direction.
    std::vector<float> sums(profile.size());
    for (int i = first; i < end; ++i) {
      const Point2 out = scan.lane_direction(scan.lane(i));
      add_samples(picture, scan.centre() + out * (scan.outer() - scan.length()), out * scan.per_step(), sums);
    }
    for (size_t k = 0; k < profile.size(); ++k) profile[k] = sums[k] / static_cast<double>(end - first);
    return profile;
  }
  for (int k = 0; k < scan.steps(); ++k) {
    double sum = 0;
    const Point2 out = scan.is_arc() ? scan.outwards(k * scan.per_step()) : Point2{};
    for (int i = first; i < end; ++i) {
      const Point2 p =
          scan.is_arc() ? scan.on_arc(out, scan.lane(i)) : scan.at(k * scan.per_step(), scan.lane(i));
      sum += bilinear(picture.view(), std::clamp(p.x, 0.0, right), std::clamp(p.y, 0.0, bottom));
    }
    profile[static_cast<size_t>(k)] = sum / (end - first);
  }
  return profile;
}

std::vector<Strip> strips_of(const Image<uint8_t>& picture, const Scan& scan) {
  constexpr int strip_lanes = 6;  // of a band's width, for one point of the edge's line
  std::vector<Strip> strips;
  const int count = std::max(1, scan.lanes() / strip_lanes);
  for (int i = 0; i < count; ++i) {
    const int first = i * scan.lanes() / count, end = (i + 1) * scan.lanes() / count;
    strips.push_back({0.5 * (scan.lane(first) + scan.lane(end - 1)), end - first, first,
                      profile_along(picture, scan, first, end)});
  }
  return strips;
}

std::vector<double> reading_skew(const Scan& scan, const Strip& strip, double at, double reach) {
  const int steps = scan.steps();
  std::vector<double> skew(static_cast<size_t>(steps), 0);
  for (int k = static_cast<int>(std::ceil(at - reach)); k <= static_cast<int>(std::floor(at + reach)); ++k) {
    if (!scan.round() && (k < 0 || k >= steps)) continue;
    const double along = k * scan.per_step();
    const Point2 u = scan.direction(along);
    double sum = 0;
    for (int i = strip.first; i < strip.first + strip.lanes; ++i) {
      const Point2 p = scan.at(along, scan.lane(i));
      // Two neighbours with the weights 1 - f and f have the third moment f (1 - f) (1 - 2 f) about the
      // place.
      const auto third = [](double v) {
        const double f = v - std::floor(v);
        return f * (1 - f) * (1 - 2 * f);
      };
      sum += third(p.x) * u.x * u.x * u.x + third(p.y) * u.y * u.y * u.y;
    }
    const double cubed = scan.per_step() * scan.per_step() * scan.per_step();
    skew[static_cast<size_t>(((k % steps) + steps) % steps)] = sum / (6 * strip.lanes * cubed);
  }
  return skew;
}

std::vector<double> profile_of(const std::vector<Strip>& strips) {
  std::vector<double> whole(strips[0].profile.size(), 0);
  int lanes = 0;
  for (const Strip& s : strips) lanes += s.lanes;
  for (const Strip& s : strips)
    for (size_t k = 0; k < whole.size(); ++k) whole[k] += s.profile[k] * s.lanes / lanes;
  return whole;
}

std::vector<double> strength_along(const std::vector<double>& profile, bool round) {
  // The slope of a Gaussian of one pixel (Canny, A computational approach to edge detection, IEEE Trans. PAMI
  // 8, 1986), scaled so that a step of a usual lens' blur answers with its height.
  constexpr int reach = 4;
  std::array<double, reach + 1> weight{};
  double scale = 0;
  for (int j = 1; j <= reach; ++j) {
    weight[static_cast<size_t>(j)] = j * std::exp(-0.5 * j * j);
    // A step blurred by 0.9 pixels, as v(j) - v(-j).
    scale += weight[static_cast<size_t>(j)] * std::erf(j / (0.9 * std::numbers::sqrt2));
  }
  std::vector<double> strength(profile.size());
  for (int k = 0; k < static_cast<int>(profile.size()); ++k) {
    double sum = 0;
    for (int j = 1; j <= reach; ++j)
      sum += weight[static_cast<size_t>(j)] *
             (value_at(profile, k + j, round) - value_at(profile, k - j, round));
    strength[static_cast<size_t>(k)] = sum / scale;
  }
  return strength;
}

std::optional<ScanEdge> step_near(const std::vector<double>& profile, bool round, double start, double reach,
                                  double noise, const std::vector<double>& skew) {
  double at = start, blur = 0.95, low = 0, high = 0;
  const int n = static_cast<int>(profile.size());
  Eigen::Matrix4d normal;
  double squares = 0;
  int count = 0;
  std::vector<BlurredStep> steps;
  steps.reserve(static_cast<size_t>(2 * reach) + 2);
  for (int step = 0; step < 12; ++step) {
    normal.setZero();
    Eigen::Vector4d right = Eigen::Vector4d::Zero();
    squares = 0, count = 0;
    const int first = static_cast<int>(std::ceil(at - reach)),
              last = static_cast<int>(std::floor(at + reach));
    Eigen::Matrix2d light = Eigen::Matrix2d::Zero();
    Eigen::Vector2d light_right = Eigen::Vector2d::Zero();
    const auto step_at = [&](int k) {
      const double z = (k - at) / blur;
      BlurredStep there = blurred_step(z);
      if (!skew.empty())  // the third derivative of a blurred step
        there.value += value_at(skew, k, round) * (z * z - 1) * there.density / (blur * blur * blur);
      return there;
    };
    steps.clear();
    for (int k = first; k <= last; ++k) {
      if (!round && (k < 0 || k >= n)) continue;
      steps.push_back(step_at(k));
      const double phi = steps.back().value;
      const Eigen::Vector2d j(1 - phi, phi);
      light += j * j.transpose(), light_right += value_at(profile, k, round) * j, ++count;
    }
    if (count < 5 || std::abs(light.determinant()) < 1e-6) return std::nullopt;
    const Eigen::Vector2d levels = light.inverse() * light_right;
    low = levels[0], high = levels[1];
    size_t next = 0;
    for (int k = first; k <= last; ++k) {
      if (!round && (k < 0 || k >= n)) continue;
      const double z = (k - at) / blur;
      const auto [phi, density] = steps[next++];
      const double bell = density / blur;
      const double residual = value_at(profile, k, round) - low - (high - low) * phi;
      const Eigen::Vector4d j(-(high - low) * bell, -(high - low) * bell * z * blur, 1 - phi, phi);
      normal += j * j.transpose(), right += residual * j, squares += residual * residual;
    }
    normal(1, 1) += 4 * noise * noise;  // the blur is about what it was
    for (int i = 0; i < 4; ++i) normal(i, i) += 1e-9;
    const Eigen::Vector4d change = normal.ldlt().solve(right);
    if (!change.allFinite()) return std::nullopt;
    at += std::clamp(change[0], -1.0, 1.0);
    blur = std::clamp(blur * std::exp(std::clamp(change[1], -0.3, 0.3)), 0.5, 3.0);
    if (std::abs(at - start) > 3) return std::nullopt;
    if (std::abs(change[0]) < 1e-4) break;
  }
  const double variance = std::max(count > 4 ? squares / (count - 4) : 0, noise * noise);
  const Eigen::Matrix4d covariance = normal.inverse() * variance;
  return ScanEdge{at, high - low, std::sqrt(std::max(covariance(0, 0), 0.0)), blur};
}

std::vector<ScanEdge> edges_along(const std::vector<double>& profile, bool round, double least,
                                  double noise) {
  const std::vector<double> strength = strength_along(profile, round);
  const int n = static_cast<int>(profile.size());
  std::vector<int> peaks;
  for (int k = 0; k < n; ++k) {
    if (!round && (k < 1 || k >= n - 1)) continue;
    const double here = strength[static_cast<size_t>(k)], before = value_at(strength, k - 1, round),
                 after = value_at(strength, k + 1, round);
    const double sign = here < 0 ? -1 : 1;
    // A plateau is one peak: its first step.
    if (std::abs(here) >= 0.6 * least && sign * here > sign * before && sign * here >= sign * after)
      peaks.push_back(k);
  }
  std::vector<ScanEdge> edges;
  for (size_t i = 0; i < peaks.size(); ++i) {
    // As far as half the way to the next one.
    double reach = 6;
    for (const size_t j : {i == 0 ? peaks.size() - 1 : i - 1, i + 1 == peaks.size() ? 0 : i + 1}) {
      if (j == i) continue;
      int apart = std::abs(peaks[j] - peaks[i]);
      if (round) apart = std::min(apart, n - apart);
      reach = std::min(reach, std::max(2.5, 0.5 * apart));
    }
    const auto edge = step_near(profile, round, peaks[i], reach, noise);
    const bool same_sense = edge && (edge->contrast > 0) == (strength[static_cast<size_t>(peaks[i])] > 0);
    if (!same_sense || std::abs(edge->contrast) < least) continue;
    ScanEdge e = *edge;
    if (round) e.at = std::fmod(e.at + n, static_cast<double>(n));
    if (!edges.empty() && std::abs(edges.back().at - e.at) < 0.7) continue;  // two peaks settled on one edge
    edges.push_back(e);
  }
  if (round && edges.size() > 1 && std::abs(edges.front().at + n - edges.back().at) < 0.7) edges.pop_back();
  std::sort(edges.begin(), edges.end(), [](const ScanEdge& a, const ScanEdge& b) { return a.at < b.at; });
  return edges;
}

}  // namespace heron
