#include "heron/geometry/rigid_fit.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "heron/base/error.hpp"

namespace heron {
namespace {

Point2 mean_of(const std::vector<Point2>& points) {
  Point2 sum;
  for (Point2 p : points) sum += p;
  return sum / static_cast<double>(points.size());
}

[[noreturn]] void refuse(const std::string& message) { throw Error(ErrorCode::not_determined, message); }

}  // namespace

RigidFit fit_rigid(const std::vector<Point2>& source, const std::vector<Point2>& target) {
  const size_t n = source.size();
  if (n != target.size())
    fail_argument(fmt::format("touched points: {} in one frame, {} in the other; they come in pairs", n,
                              target.size()));
  if (n < 3)
    refuse(fmt::format("touched points: {} given; three or more are needed, spread over the plane", n));
  const Point2 ms = mean_of(source), mt = mean_of(target);
  double straight = 0, sideways = 0, mirrored_straight = 0, mirrored_sideways = 0, spread_s = 0, spread_t = 0;
  for (size_t i = 0; i < n; ++i) {
    const Point2 s = source[i] - ms, t = target[i] - mt, m{s.x, -s.y};
    straight += dot(s, t), sideways += cross(s, t);
    mirrored_straight += dot(m, t), mirrored_sideways += cross(m, t);
    spread_s += dot(s, s), spread_t += dot(t, t);
  }
  if (!(spread_s > 1e-9 && spread_t > 1e-9))
    refuse("touched points: they coincide; spread them over the work plane");
  const double fits = std::hypot(straight, sideways),
               fits_mirrored = std::hypot(mirrored_straight, mirrored_sideways);
  // On one line both fit equally well and the handedness is not determined.
  if (std::abs(fits - fits_mirrored) < 1e-3 * std::max(fits, fits_mirrored))
    refuse(
        "touched points: they lie on one line, so which side is up is not fixed; touch one well off that "
        "line");
  if (fits_mirrored > fits)
    refuse(
        "touched points: the pairs are mirrored; one of the frames is left-handed, or x and y are swapped in "
        "one of them");
  const double ratio = std::sqrt(spread_t / spread_s);
  if (std::abs(ratio - 1) > 0.02)
    refuse(
        fmt::format("touched points: lengths differ by a factor of {:.4f}; are both frames in millimetres, "
                    "and is the board's pitch right?",
                    ratio));

  RigidFit fit;
  const Angle turn = radians(std::atan2(sideways, straight));
  const Point2 shift = mt - rotated(ms, turn);
  fit.target_from_source = {shift.x, shift.y, turn};
  double squares = 0;
  for (size_t i = 0; i < n; ++i) {
    fit.residuals_mm.push_back(distance(fit.target_from_source * source[i], target[i]));
    squares += fit.residuals_mm.back() * fit.residuals_mm.back();
  }
  fit.rms_mm = std::sqrt(squares / static_cast<double>(n));
  const double sigma = std::sqrt(squares / static_cast<double>(2 * n - 3));
  fit.sigma_mm = sigma / std::sqrt(static_cast<double>(n));
  fit.sigma_angle = radians(sigma / std::sqrt(spread_s));
  return fit;
}

std::optional<size_t> pair_off(const std::vector<Point2>& source, const std::vector<Point2>& target,
                               double tolerance_mm) {
  std::optional<size_t> worst;
  double least = tolerance_mm;
  for (size_t i = 0; i < source.size() && source.size() >= 4; ++i) {
    std::vector<Point2> from = source, to = target;
    from.erase(from.begin() + static_cast<std::ptrdiff_t>(i)),
        to.erase(to.begin() + static_cast<std::ptrdiff_t>(i));
    try {
      const RigidFit rest = fit_rigid(from, to);
      const double largest = *std::max_element(rest.residuals_mm.begin(), rest.residuals_mm.end());
      if (largest < least) least = largest, worst = i;
    } catch (const Error&) {
      // What is left does not determine a frame.
    }
  }
  return worst;
}

}  // namespace heron
