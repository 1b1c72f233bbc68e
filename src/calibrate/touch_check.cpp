#include "heron/calibrate/touch_check.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "geometry/linear.hpp"
#include "heron/base/error.hpp"

namespace heron {
namespace {

constexpr double clearly = 3;  // sigmas
constexpr double far_off = 5;  // sigmas of a part that does not fit the others
constexpr double least_spread =
    0.1;  // of turned hands: below it the hand's sigma would be three times the shift's

/// Which parameters are looked for: shift x, y, turn, scale and, last, hand x, y.
constexpr int without_hand = 4, with_hand = 6;

/// Two rows for each part, in units of its sigma.
struct Equations {
  Eigen::MatrixXd a;
  Eigen::VectorXd b;
  std::vector<double> sigmas;
};

Equations equations_of(const std::vector<TouchedPart>& parts, Point2 middle, int count, double touch_sigma) {
  const auto n = static_cast<Eigen::Index>(parts.size());
  Equations e{Eigen::MatrixXd(2 * n, count), Eigen::VectorXd(2 * n), {}};
  for (Eigen::Index i = 0; i < n; ++i) {
    const TouchedPart& part = parts[static_cast<size_t>(i)];
    const Point2 from = Point2{part.sent.x, part.sent.y} - middle,
                 error = part.touched - Point2{part.sent.x, part.sent.y};
    const double c = cos(part.sent.angle), s = sin(part.sent.angle);
    e.a.row(2 * i).head(without_hand) << 1, 0, -from.y, from.x;
    e.a.row(2 * i + 1).head(without_hand) << 0, 1, from.x, from.y;
    if (count == with_hand) {
      e.a.row(2 * i).tail(2) << c, -s;
      e.a.row(2 * i + 1).tail(2) << s, c;
    }
    e.b.segment(2 * i, 2) << error.x, error.y;
    const double sigma = std::hypot(part.sigma.value_or(0), touch_sigma);
    e.a.middleRows(2 * i, 2) /= sigma, e.b.segment(2 * i, 2) /= sigma;
    e.sigmas.push_back(sigma);
  }
  return e;
}

Point2 middle_of(const std::vector<TouchedPart>& parts) {
  Point2 sum{};
  for (const TouchedPart& p : parts) sum += Point2{p.sent.x, p.sent.y};
  return sum / static_cast<double>(parts.size());
}

/// From 0, all alike, to 1.
double spread_of_angles(const std::vector<TouchedPart>& parts) {
  Point2 sum{};
  for (const TouchedPart& p : parts) sum += unit(p.sent.angle);
  const Point2 mean = sum / static_cast<double>(parts.size());
  return 1 - dot(mean, mean);
}

struct Solved {
  LinearLeastSquares fit;
  Equations equations;
  Point2 middle;
  int count = 0;

  Eigen::VectorXd rest() const { return equations.b - equations.a * fit.x; }  // in sigmas
  int freedom() const { return static_cast<int>(equations.b.size()) - count; }
};

Solved solve(const std::vector<TouchedPart>& parts, double touch_sigma) {
  Solved s;
  s.middle = middle_of(parts);
  // Twelve equations for six unknowns are few; a hand needs hands that are turned.
  s.count = spread_of_angles(parts) > least_spread && parts.size() >= 6 ? with_hand : without_hand;
  s.equations = equations_of(parts, s.middle, s.count, touch_sigma);
  s.fit = least_squares(s.equations.a, s.equations.b);
  if (!s.fit.determined)
    throw Error(ErrorCode::not_determined,
                "check of touched parts: the parts do not tell shift, turn and scale apart; touch parts that "
                "lie far apart");
  return s;
}

/// The part whose deleted residual is the largest, in sigmas of it, where that is far off.
std::optional<size_t> worst_part(const Solved& s) {
  const Eigen::VectorXd rest = s.rest();
  const double sum = rest.squaredNorm();
  std::optional<size_t> worst;
  double largest = far_off * far_off;
  for (Eigen::Index i = 0; i < rest.size() / 2; ++i) {
    const Eigen::MatrixXd rows = s.equations.a.middleRows(2 * i, 2);
    const Eigen::Matrix2d free =
        Eigen::Matrix2d::Identity() - rows * s.fit.unit_covariance * rows.transpose();
    const Eigen::Vector2d own = rest.segment(2 * i, 2);
    const auto inverse = inverse_symmetric(free);
    if (!inverse) continue;  // the fit goes through it whatever it is
    const double square = own.dot(*inverse * own);
    // The scatter of the other parts, but no less than their own sigmas.
    const double others = std::max(1.0, (sum - square) / std::max(1, s.freedom() - 2));
    if (square / others / 2 > largest) largest = square / others / 2, worst = static_cast<size_t>(i);
  }
  return worst;
}

/// 99.9 % of chi-squared by freedom stay below (Wilson and Hilferty, 1931).
double largest_by_chance(int freedom) {
  const double k = 2.0 / (9.0 * freedom), deviate = 3.09;
  return freedom * std::pow(1 - k + deviate * std::sqrt(k), 3);
}

void require_valid(const std::vector<TouchedPart>& parts, double touch_sigma) {
  if (!(touch_sigma > 0 && std::isfinite(touch_sigma)))
    fail_argument(fmt::format("check of touched parts: a sigma of {:g} mm; it must be above 0", touch_sigma));
  for (const TouchedPart& p : parts)
    if (!is_finite({p.sent.x, p.sent.y}) || !is_finite(p.touched) || !std::isfinite(p.sent.angle.radians()) ||
        !(p.sigma.value_or(0) >= 0 && std::isfinite(p.sigma.value_or(0))))
      fail_argument("check of touched parts: a place that is no number");
  if (parts.size() < 5)
    throw Error(
        ErrorCode::not_determined,
        fmt::format("check of touched parts: {} of them; five are the least, eight or more, far apart "
                    "and turned differently, tell all causes apart",
                    parts.size()));
}

/// Twice the parameters at `at`, or one of them.
ErrorCause<Point2> pair_of(const Solved& s, int at, double grown) {
  const Eigen::MatrixXd& c = s.fit.unit_covariance;
  ErrorCause<Point2> cause;
  cause.value = {s.fit.x[at], s.fit.x[at + 1]};
  cause.sigma = grown * std::sqrt(std::max(c(at, at), c(at + 1, at + 1)));
  cause.rms_mm = norm(cause.value);
  cause.seen = cause.rms_mm > clearly * cause.sigma;
  return cause;
}
ErrorCause<double> one_of(const Solved& s, int at, double grown, double reach_mm) {
  ErrorCause<double> cause;
  cause.value = s.fit.x[at];
  cause.sigma = grown * std::sqrt(s.fit.unit_covariance(at, at));
  cause.rms_mm = std::abs(cause.value) * reach_mm;
  cause.seen = std::abs(cause.value) > clearly * cause.sigma;
  return cause;
}

/// What the causes that were found leave of a part.
Point2 rest_of(const TouchedPart& part, const TouchCheck& check) {
  const Point2 sent{part.sent.x, part.sent.y}, from = sent - check.middle;
  const double turn = check.turn.value, scale = check.scale.value;
  Point2 explained = check.shift.value + Point2{-from.y, from.x} * turn + from * scale;
  if (check.hand) explained += rotated(check.hand->value, part.sent.angle);
  return part.touched - sent - explained;
}

/// No cell is wrong by a fifth of its size: such places are no touched ones.
void require_same_map(const TouchCheck& check, double rest, double reach_mm) {
  constexpr double largest = 0.2;
  if (std::abs(check.turn.value) < largest && std::abs(check.scale.value) < largest &&
      rest < largest * reach_mm)
    return;
  throw Error(
      ErrorCode::not_determined,
      fmt::format("check of touched parts: the touched places are another map of the sent ones (turned by "
                  "{:.0f} degrees, {:.3g} times as large, {:.3g} mm off on average); look for another unit, "
                  "x and y swapped, or another frame",
                  check.turn.value * 180 / std::numbers::pi, 1 + check.scale.value, rest));
}

}  // namespace

TouchCheck check_touches(const std::vector<TouchedPart>& parts, double touch_sigma) {
  require_valid(parts, touch_sigma);
  TouchCheck check;
  std::vector<size_t> used(parts.size());
  for (size_t i = 0; i < used.size(); ++i) used[i] = i;
  const auto kept = [&] {
    std::vector<TouchedPart> left;
    for (const size_t i : used) left.push_back(parts[i]);
    return left;
  };
  Solved s = solve(kept(), touch_sigma);
  while (used.size() > 5 && check.wrong.size() < parts.size() / 4) {
    const auto worst = worst_part(s);
    if (!worst) break;
    check.wrong.push_back(used[*worst]);
    used.erase(used.begin() + static_cast<std::ptrdiff_t>(*worst));
    s = solve(kept(), touch_sigma);
  }
  const double chi_squared = s.rest().squaredNorm();
  check.rest_seen = chi_squared > largest_by_chance(s.freedom());
  const double grown = std::max(1.0, std::sqrt(chi_squared / s.freedom()));
  double reach = 0, expected = 0, off = 0, left = 0;
  for (size_t k = 0; k < used.size(); ++k) {
    const TouchedPart& p = parts[used[k]];
    const Point2 sent{p.sent.x, p.sent.y};
    reach += dot(sent - s.middle, sent - s.middle), off += dot(p.touched - sent, p.touched - sent);
    expected += 2 * s.equations.sigmas[k] * s.equations.sigmas[k];
  }
  const auto count = static_cast<double>(used.size());
  reach = std::sqrt(reach / count);
  check.rms_mm = std::sqrt(off / count), check.expected_mm = std::sqrt(expected / count);
  check.middle = s.middle;
  check.shift = pair_of(s, 0, grown);
  check.turn = one_of(s, 2, grown, reach), check.scale = one_of(s, 3, grown, reach);
  if (s.count == with_hand) check.hand = pair_of(s, without_hand, grown);
  for (const TouchedPart& p : parts) check.rest.push_back(rest_of(p, check));
  for (const size_t i : used) left += dot(check.rest[i], check.rest[i]);
  require_same_map(check, std::sqrt(left / count), reach);
  // Of what chance leaves, the fit takes its part away.
  check.left_mm = std::sqrt(left / count * static_cast<double>(2 * used.size()) / s.freedom());
  check.turn.value *= 180 / std::numbers::pi, check.turn.sigma *= 180 / std::numbers::pi;
  return check;
}

}  // namespace heron
