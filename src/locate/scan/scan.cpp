#include "scan.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "image/sample_places.hpp"
#include "step_fit.hpp"

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

/// The profile with `more` steps before and after it.
std::vector<double> continued(const std::vector<double>& profile, size_t more, bool round) {
  const int n = static_cast<int>(profile.size()), beside = static_cast<int>(more);
  std::vector<double> padded(profile.size() + 2 * more);
  std::copy(profile.begin(), profile.end(), padded.begin() + beside);
  for (int k = 1; k <= beside; ++k) {
    padded[static_cast<size_t>(beside - k)] = value_at(profile, -k, round);
    padded[static_cast<size_t>(beside + n - 1 + k)] = value_at(profile, n - 1 + k, round);
  }
  return padded;
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
  points.reserve(
      static_cast<size_t>(2 * (is_straight() ? 2 : std::max(9, std::max(steps_, lanes_) / 3 + 1))));
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
  const auto holds = [&](Point2 p) {
    return p.x >= -0.5 && p.y >= -0.5 && p.x <= width - 0.5 && p.y <= height - 0.5;
  };
  const double reach = radius_ + 0.5 * (is_fan_ ? length_ : width_);
  if (!is_straight() && holds(centre_ - Point2{reach, reach}) && holds(centre_ + Point2{reach, reach}))
    return true;
  const auto points = border();
  return std::all_of(points.begin(), points.end(), holds);
}

LaneReader::LaneReader(const Image<uint8_t>& picture, const Scan& scan) : picture_(picture), scan_(scan) {
  // Of a scan far outside, too, places are counted from a pixel of the picture: reading relies on it.
  places_.origin_x = even_below(std::clamp(scan.centre().x, 0.0, static_cast<double>(picture.width())));
  places_.origin_y = even_below(std::clamp(scan.centre().y, 0.0, static_cast<double>(picture.height())));
  const auto steps = static_cast<size_t>(scan.steps());
  for (auto* v : {&places_.along_x, &places_.along_y, &places_.cubed_x, &places_.cubed_y}) v->resize(steps);
  const auto cubed = [&](double u) {
    const double steps_a_pixel = u / scan.per_step();
    return static_cast<float>(steps_a_pixel * steps_a_pixel * steps_a_pixel);
  };
  const Point2 start = scan.direction(0), out = scan.is_arc() ? scan.outwards(0) : Point2{};
  const double way = cross(out, start) < 0 ? -1 : 1;  // round the centre of an arc
  for (size_t k = 0; k < steps; ++k) {
    const double along = static_cast<double>(k) * scan.per_step();
    const Point2 place = scan.is_arc() ? scan.outwards(along) : Point2{along, along},
                 u = scan.is_arc() ? Point2{-place.y, place.x} * way : start;
    places_.along_x[k] = static_cast<float>(place.x), places_.along_y[k] = static_cast<float>(place.y);
    places_.cubed_x[k] = cubed(u.x), places_.cubed_y[k] = cubed(u.y);
  }
  if (scan.is_fan()) turn_ = unit(radians(scan.width() / scan.lanes() / scan.radius()));
}

std::vector<double> LaneReader::mean_of(int first, int end, std::vector<float>* skew) {
  const Point2 origin{static_cast<double>(places_.origin_x), static_cast<double>(places_.origin_y)},
      centre = scan_.centre() - origin;
  const auto add = [&](Point2 start, double by_x, double by_y) {
    const auto near = [](double v) { return static_cast<float>(std::clamp(v, -1e6, 1e6)); };
    places_.lanes.push_back({near(start.x), near(start.y), near(by_x), near(by_y)});
  };
  places_.lanes.clear();
  Point2 out = scan_.is_fan() ? scan_.lane_direction(scan_.lane(first)) : scan_.direction(0);
  for (int i = first; i < end; ++i) {
    const double lane = scan_.lane(i);
    if (scan_.is_arc())
      add(centre, scan_.radius() + lane, scan_.radius() + lane);
    else
      add(scan_.is_fan() ? centre + out * (scan_.outer() - scan_.length()) : scan_.at(0, lane) - origin,
          out.x, out.y);
    out = {out.x * turn_.x - out.y * turn_.y, out.x * turn_.y + out.y * turn_.x};
  }
  sum_over_lanes(picture_, places_, sums_, skew);
  std::vector<double> profile(sums_.size());
  for (size_t k = 0; k < sums_.size(); ++k) profile[k] = sums_[k] / static_cast<double>(end - first);
  if (skew)
    for (float& v : *skew) v /= static_cast<float>(6 * (end - first));
  return profile;
}

std::vector<Strip> strips_of(const Image<uint8_t>& picture, const Scan& scan) {
  constexpr int strip_lanes = 6;  // of a band's width, for one point of the edge's line
  std::vector<Strip> strips;
  const int count = std::max(1, scan.lanes() / strip_lanes);
  LaneReader reader(picture, scan);
  strips.reserve(static_cast<size_t>(count));
  for (int i = 0; i < count; ++i) {
    const int first = i * scan.lanes() / count, end = (i + 1) * scan.lanes() / count;
    Strip strip{0.5 * (scan.lane(first) + scan.lane(end - 1)), end - first, {}, {}};
    strip.profile = reader.mean_of(first, end, &strip.skew);
    strips.push_back(std::move(strip));
  }
  return strips;
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
  constexpr std::array slope{0.6065306597126334, 0.2706705664732254, 0.033326989614726917,
                             0.0013418505116100474};  // j exp(-j^2 / 2)
  constexpr double answer = 0.7430785322572372;       // of a step of height 1, blurred by 0.9 pixels
  const std::vector<double> padded = continued(profile, slope.size(), round);
  std::vector<double> strength(profile.size(), 0);
  for (size_t j = 1; j <= slope.size(); ++j) {
    const double *after = padded.data() + slope.size() + j, *before = padded.data() + slope.size() - j;
    const double weight = slope[j - 1] / answer;
    for (size_t k = 0; k < strength.size(); ++k) strength[k] += weight * (after[k] - before[k]);
  }
  return strength;
}

namespace {

/// The steps at which the strength has an extremum of at least `least`.
std::vector<int> peaks_of(const std::vector<double>& strength, bool round, double least) {
  const int n = static_cast<int>(strength.size());
  std::vector<int> peaks;
  for (int k = 0; k < n; ++k) {
    const double here = strength[static_cast<size_t>(k)];
    if (std::abs(here) < least || (!round && (k < 1 || k >= n - 1))) continue;
    const double before = value_at(strength, k - 1, round), after = value_at(strength, k + 1, round);
    const double sign = here < 0 ? -1 : 1;
    // A plateau is one peak: its first step.
    if (sign * here > sign * before && sign * here >= sign * after) peaks.push_back(k);
  }
  return peaks;
}

/// How far a step is fitted to a profile of `n` steps about a peak: half the way to the next one.
double reach_of(const std::vector<int>& peaks, size_t i, int n, bool round) {
  double reach = 6;
  for (const size_t j : {i == 0 ? peaks.size() - 1 : i - 1, i + 1 == peaks.size() ? 0 : i + 1}) {
    if (j == i) continue;
    int apart = std::abs(peaks[j] - peaks[i]);
    if (round) apart = std::min(apart, n - apart);
    reach = std::min(reach, std::max(2.5, 0.5 * apart));
  }
  return reach;
}

}  // namespace

std::vector<std::vector<ScanEdge>> edges_along(std::span<const ProfileSearch> profiles) {
  std::vector<StepSearch> searches;
  searches.reserve(4 * profiles.size());
  std::vector<size_t> first{0};  // search of each profile
  std::vector<bool> rising;
  for (const ProfileSearch& p : profiles) {
    const std::vector<double> own = p.strength ? std::vector<double>() : strength_along(*p.profile, p.round);
    const std::vector<double>& strength = p.strength ? *p.strength : own;
    const double least = p.beside > 0 ? std::min(p.beside, p.least) : p.least;
    const std::vector<int> peaks = peaks_of(strength, p.round, 0.6 * least);
    const int n = static_cast<int>(strength.size());
    for (size_t i = 0; i < peaks.size(); ++i) {
      const double here = strength[static_cast<size_t>(peaks[i])];
      if (std::abs(here) < 0.6 * p.least) continue;
      searches.push_back({.profile = p.profile,
                          .round = p.round,
                          .start = static_cast<double>(peaks[i]),
                          .reach = reach_of(peaks, i, n, p.round),
                          .noise = p.noise,
                          .least = p.least});
      rising.push_back(here > 0);
    }
    first.push_back(searches.size());
  }
  const auto fitted = fit_steps(searches);
  std::vector<std::vector<ScanEdge>> all(profiles.size());
  for (size_t p = 0; p < profiles.size(); ++p) {
    std::vector<ScanEdge>& edges = all[p];
    const bool round = profiles[p].round;
    const auto n = static_cast<double>(profiles[p].profile->size());
    for (size_t i = first[p]; i < first[p + 1]; ++i) {
      if (!fitted[i] || (fitted[i]->contrast > 0) != rising[i]) continue;
      if (std::abs(fitted[i]->contrast) < profiles[p].least) continue;
      ScanEdge e = *fitted[i];
      if (round) e.at = std::fmod(e.at + n, n);
      if (!edges.empty() && std::abs(edges.back().at - e.at) < 0.7)
        continue;  // two peaks settled on one edge
      edges.push_back(e);
    }
    if (round && edges.size() > 1 && std::abs(edges.front().at + n - edges.back().at) < 0.7) edges.pop_back();
    std::sort(edges.begin(), edges.end(), [](const ScanEdge& a, const ScanEdge& b) { return a.at < b.at; });
  }
  return all;
}

std::vector<ScanEdge> edges_along(const std::vector<double>& profile, bool round, double least,
                                  double noise) {
  const ProfileSearch search{&profile, round, least, noise};
  return std::move(edges_along(std::span(&search, 1))[0]);
}

}  // namespace heron
