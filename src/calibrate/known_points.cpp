#include "heron/calibrate/known_points.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <limits>

#include "geometry/linear.hpp"
#include "heron/base/error.hpp"
#include "homography_fit.hpp"

namespace heron {
namespace {

int unknowns(PlaneModel m) { return m == PlaneModel::similarity ? 4 : m == PlaneModel::affine ? 6 : 8; }

struct Fit {
  PlaneModel model;
  Homography pixel_from_world;
  PlaneMapping::Covariance unit_covariance = PlaneMapping::Covariance::Zero();
  double sigma = 0;  ///< of one coordinate; 0 when nothing is left over
  int spare = 0;     ///< residuals more than unknowns
};

/// Linear models: pixel = design * parameters; `place` puts the parameters into the first six elements.
std::optional<Fit> linear_fit(PlaneModel model, const std::vector<KnownPair>& pairs, bool mirrored) {
  const auto n = static_cast<Eigen::Index>(pairs.size());
  const int p = unknowns(model);
  Point2 middle;
  for (const KnownPair& k : pairs) middle += k.world_mm.plain() / static_cast<double>(n);
  // Parameters a, b, c (and d, e, f): u = a x + b y + c; a similarity shares a and b between both rows.
  Eigen::MatrixXd design = Eigen::MatrixXd::Zero(2 * n, p), place = Eigen::MatrixXd::Zero(6, p);
  if (model == PlaneModel::affine) {
    place.setIdentity();
  } else {
    const double s = mirrored ? 1 : -1;
    place(0, 0) = 1, place(1, 1) = 1, place(2, 2) = 1;
    place(3, 1) = s, place(4, 0) = -s, place(5, 3) = 1;
  }
  Eigen::VectorXd seen(2 * n);
  for (Eigen::Index i = 0; i < n; ++i) {
    const KnownPair& k = pairs[static_cast<size_t>(i)];
    Eigen::Matrix<double, 2, 6> row;
    row << k.world_mm.x - middle.x, k.world_mm.y - middle.y, 1, 0, 0, 0, 0, 0, 0, k.world_mm.x - middle.x,
        k.world_mm.y - middle.y, 1;
    design.middleRows(2 * i, 2) = product(row, place);
    seen.segment<2>(2 * i) << k.pixel.x, k.pixel.y;
  }
  const LinearLeastSquares solved = least_squares(design, seen);
  if (!solved.determined) return std::nullopt;
  const Eigen::VectorXd e = product(place, solved.x).col(0);
  Eigen::Matrix3d back = Eigen::Matrix3d::Identity();  // from coordinates about the middle
  back(0, 2) = -middle.x, back(1, 2) = -middle.y;
  Fit fit{model, {}};
  fit.pixel_from_world << e[0], e[1], e[2], e[3], e[4], e[5], 0, 0, 1;
  fit.pixel_from_world = fit.pixel_from_world * back;
  // c and f absorb the middle: c' = c - a mx - b my.
  Eigen::Matrix<double, 6, 6> shift = Eigen::Matrix<double, 6, 6>::Identity();
  shift(2, 0) = shift(5, 3) = -middle.x, shift(2, 1) = shift(5, 4) = -middle.y;
  const Eigen::MatrixXd to_elements = product(shift, place);
  fit.unit_covariance.topLeftCorner<6, 6>() =
      product(product(to_elements, solved.unit_covariance), to_elements.transpose());
  fit.spare = static_cast<int>(2 * n) - p;
  fit.sigma = fit.spare > 0 ? std::sqrt(solved.sum_of_squares / fit.spare) : 0;
  return fit;
}

std::optional<Fit> homography_fit(const std::vector<KnownPair>& pairs) {
  std::vector<Point2> world, pixel;
  for (const KnownPair& k : pairs) world.push_back(k.world_mm.plain()), pixel.push_back(k.pixel);
  const auto start = homography_from_points(world, pixel);
  if (!start || std::abs((*start)(2, 2)) < 1e-9) return std::nullopt;
  const HomographyFit fitted = fit_homography(
      *start, world, pixel, [](const Homography& h, Point2 w) {  // no error where a step crosses the horizon
        const Eigen::Vector3d q = h * Eigen::Vector3d(w.x, w.y, 1);
        return Point2{q.x() / q.z(), q.y() / q.z()};
      });
  const LeastSquaresFit& least = fitted.fit;
  if (!least.determined) return std::nullopt;
  Fit fit{PlaneModel::homography, fitted.pixel_from_world};
  fit.unit_covariance = least.unit_covariance;
  fit.spare = static_cast<int>(2 * pairs.size()) - 8;
  fit.sigma = fit.spare > 0 ? least.sigma : 0;
  return fit;
}

/// Whether the places lie on one line, as far as a hundredth of their spread.
bool on_one_line(const std::vector<KnownPair>& pairs) {
  Point2 middle;
  for (const KnownPair& k : pairs) middle += k.world_mm.plain() / static_cast<double>(pairs.size());
  Eigen::Matrix2d spread = Eigen::Matrix2d::Zero();
  for (const KnownPair& k : pairs) {
    const Eigen::Vector2d d(k.world_mm.x - middle.x, k.world_mm.y - middle.y);
    spread += d * d.transpose();
  }
  const SymmetricEigen axes = eigen_symmetric(spread);
  return axes.values[0] < 1e-4 * axes.values[1];
}

std::optional<Fit> fitted(PlaneModel model, const std::vector<KnownPair>& pairs,
                          const std::optional<bool>& left_handed) {
  if (static_cast<int>(2 * pairs.size()) < unknowns(model)) return std::nullopt;
  if (model == PlaneModel::homography) return homography_fit(pairs);
  if (model == PlaneModel::affine) return linear_fit(model, pairs, false);
  if (left_handed) return linear_fit(model, pairs, !*left_handed);  // the picture's y points down
  const auto plain = linear_fit(model, pairs, false), mirrored = linear_fit(model, pairs, true);
  if (plain && mirrored && on_one_line(pairs))
    throw Error(
        ErrorCode::not_determined,
        fmt::format("calibrate: {} do not tell on which side of their line Y grows; give --handed right "
                    "(X, Y and the direction towards the camera form a right-handed frame) or --handed "
                    "left, or a point well off the line",
                    pairs.size() == 2 ? "two points" : "points on one line"));
  return mirrored && mirrored->sigma < 0.5 * plain->sigma ? mirrored : plain;
}

std::vector<PlaneModel> models_for(const KnownPointsOptions& o) {
  if (o.model) return {*o.model};
  return {PlaneModel::similarity, PlaneModel::affine, PlaneModel::homography};
}

struct Choice {
  Fit fit;
  std::string why;
};

std::optional<Choice> choose(const std::vector<KnownPair>& pairs, const KnownPointsOptions& o) {
  std::optional<Choice> best;
  for (const PlaneModel model : models_for(o)) {
    const auto fit = fitted(model, pairs, o.left_handed);
    if (!fit) continue;
    if (o.model) return Choice{*fit, "as asked for"};
    if (!best) {
      best = Choice{*fit, fmt::format("the simplest that {} pairs fit", pairs.size())};
    } else if (fit->spare > 0 ? fit->sigma < best->fit.sigma / 1.5 : best->fit.sigma > o.tolerance_px) {
      best = Choice{*fit, fmt::format("it leaves {:.2f} px where {} {} leaves {:.2f} px", fit->sigma,
                                      best->fit.model == PlaneModel::affine ? "an" : "a",
                                      name_of(best->fit.model), best->fit.sigma)};
    }
  }
  return best;
}

/// How far off each pair lies by a fit, pixels.
std::vector<double> off_by(const Fit& fit, const std::vector<KnownPair>& pairs) {
  std::vector<double> off;
  for (const KnownPair& k : pairs) {
    const Eigen::Vector3d q = fit.pixel_from_world * Eigen::Vector3d(k.world_mm.x, k.world_mm.y, 1);
    off.push_back(distance(k.pixel, {q.x() / q.z(), q.y() / q.z()}));
  }
  return off;
}

/// The numbers of the pairs, those that lie farthest off first.
std::vector<size_t> worst_first(const std::vector<double>& off) {
  std::vector<size_t> order(off.size());
  for (size_t i = 0; i < order.size(); ++i) order[i] = i;
  std::stable_sort(order.begin(), order.end(), [&](size_t a, size_t b) { return off[a] > off[b]; });
  return order;
}

/// The pair without which a model fits that leaves two equations to prove it; of many pairs, one of those
/// that lie farthest off.
std::optional<std::pair<size_t, Choice>> choose_without_one(const std::vector<KnownPair>& pairs,
                                                            const KnownPointsOptions& o,
                                                            const std::vector<size_t>& order) {
  std::optional<std::pair<size_t, Choice>> best;
  constexpr size_t max_tried = 12;
  for (const PlaneModel model : models_for(o))
    for (size_t k = 0; k < std::min(order.size(), max_tried); ++k) {
      const size_t i = order[k];
      std::vector<KnownPair> rest = pairs;
      rest.erase(rest.begin() + static_cast<std::ptrdiff_t>(i));
      if (on_one_line(rest) && !o.left_handed) continue;
      const auto fit = fitted(model, rest, o.left_handed);
      if (!fit || fit->spare < 2 || fit->sigma > o.tolerance_px) continue;
      if (!best || fit->sigma < best->second.fit.sigma / (fit->model == best->second.fit.model ? 1 : 1.5))
        best = {i, Choice{*fit, fmt::format("{} pairs fit it once pair {} is left out", rest.size(), i + 1)}};
    }
  return best;
}

void require_pairs(const std::vector<KnownPair>& pairs, const KnownPointsOptions& o) {
  if (!(o.tolerance_px >= 0.01 && o.tolerance_px <= 100))
    fail_argument("calibrate: the tolerance must be 0.01 to 100 px");
  const size_t least = o.model ? static_cast<size_t>(unknowns(*o.model)) / 2 : 2;
  if (pairs.size() < least)
    throw Error(ErrorCode::not_determined,
                fmt::format("calibrate: {} known points; a {} needs at least {}", pairs.size(),
                            o.model ? name_of(*o.model) : "mapping", least));
  for (size_t i = 0; i < pairs.size(); ++i) {
    if (!is_finite(pairs[i].pixel) || !is_finite(pairs[i].world_mm))
      fail_argument(fmt::format("calibrate: pair {} holds a number that is not finite", i + 1));
    for (size_t j = 0; j < i; ++j)
      if (pairs[i].pixel == pairs[j].pixel || pairs[i].world_mm == pairs[j].world_mm)
        throw Error(ErrorCode::not_determined,
                    fmt::format("calibrate: pairs {} and {} hold the same {}; each point may be given once",
                                j + 1, i + 1, pairs[i].pixel == pairs[j].pixel ? "pixel" : "place"));
  }
}

/// Pixels and places that do not belong together make, with no pair to spare, a plane that is seen from both
/// sides, or a horizon across the picture.
void require_in_front(const Fit& fit, const std::vector<KnownPair>& pairs, int width, int height) {
  if (fit.model != PlaneModel::homography) return;
  const auto depth = [&](WorldPoint p) {
    return fit.pixel_from_world.row(2).dot(Eigen::Vector3d(p.x, p.y, 1));
  };
  bool whole = true;
  for (const KnownPair& k : pairs) whole = whole && depth(k.world_mm) * depth(pairs[0].world_mm) > 0;
  const Homography back = fit.pixel_from_world.inverse();
  const auto side = [&](Point2 pixel) { return back.row(2).dot(Eigen::Vector3d(pixel.x, pixel.y, 1)); };
  for (const Point2 corner : {Point2{0, 0}, {width - 1.0, 0}, {0, height - 1.0}, {width - 1.0, height - 1.0}})
    whole = whole && side(corner) * side(pairs[0].pixel) > 0;
  if (whole) return;
  throw Error(
      ErrorCode::not_determined,
      "calibrate: by these pairs a part of the picture looks at the plane's other side. Are pixels and "
      "places in the same order? One pair more would name a single wrong one");
}

}  // namespace

const char* name_of(PlaneModel m) {
  return m == PlaneModel::similarity ? "similarity" : m == PlaneModel::affine ? "affine" : "homography";
}

KnownPointsCalibration calibrate_known_points(const std::vector<KnownPair>& pairs, int width, int height,
                                              const KnownPointsOptions& options) {
  require_pairs(pairs, options);
  auto choice = choose(pairs, options);
  if (!choice)
    throw Error(ErrorCode::not_determined,
                fmt::format("calibrate: the {} points lie on one line, or three of four do; {} needs them "
                            "spread over the work area",
                            pairs.size(), options.model ? name_of(*options.model) : "a mapping"));
  KnownPointsCalibration result;
  std::vector<KnownPair> used = pairs;
  const std::vector<double> off = off_by(choice->fit, pairs);
  const std::vector<size_t> order = worst_first(off);
  // One of many that is far off hardly changes what they leave together.
  constexpr double far = 5;
  if (choice->fit.spare > 0 &&
      (choice->fit.sigma > options.tolerance_px || off[order[0]] > far * options.tolerance_px)) {
    result.fits = false, result.wrong = order[0];
    auto other = choose_without_one(pairs, options, order);
    if (other) {
      result.wrong = other->first, result.others_fit = true;
      choice = std::move(other->second);
      used.erase(used.begin() + static_cast<std::ptrdiff_t>(*result.wrong));
    }
  }
  const Fit& fit = choice->fit;
  result.model = fit.model, result.why = choice->why;
  const double sigma = fit.spare > 0 ? fit.sigma : options.tolerance_px;
  require_in_front(fit, used, width, height);
  PlaneCalibration& plane = result.plane;
  plane.mapping = PlaneMapping(fit.pixel_from_world, fit.unit_covariance * sigma * sigma);
  plane.sigma_px = sigma;
  double sum = 0;
  for (const KnownPair& k : used) {
    const Point2 r = k.pixel - plane.mapping.pixel_from_world(k.world_mm);
    plane.points.push_back({k.pixel, k.world_mm, r});
    plane.largest_mm = std::max(plane.largest_mm, norm(r) * plane.mapping.mm_per_pixel(k.pixel));
    sum += dot(r, r);
  }
  plane.rms_px = std::sqrt(sum / static_cast<double>(used.size()));
  if (result.wrong)
    result.wrong_mm =
        distance(plane.mapping.world_from_pixel(pairs[*result.wrong].pixel), pairs[*result.wrong].world_mm);
  const WorldPoint middle = plane.mapping.world_from_pixel({0.5 * (width - 1), 0.5 * (height - 1)});
  result.left_handed = jacobian(plane.mapping.matrix(), middle.plain()).determinant() > 0;
  return result;
}

}  // namespace heron
