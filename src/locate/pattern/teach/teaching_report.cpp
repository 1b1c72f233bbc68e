#include <Eigen/Cholesky>

#include "geometry/linear.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "heron/locate/teaching.hpp"
#include "locate/edge_samples/edge_profile.hpp"
#include "locate/pattern/edges/teach_edges.hpp"
#include "locate/pattern/grey/grey_samples.hpp"
#include "locate/pattern/model/pattern_model.hpp"

namespace heron {
namespace {

/// The information about x, y, angle, log scale in the pixels beside the edges, for noise of one grey level.
Eigen::Matrix4d information_of(const PatternModel& model, const Image<uint8_t>& filled, double& saturated) {
  const GreyModel& m = *model.greys();
  const Similarity2 as_taught{m.origin.x, m.origin.y, {}, 1};
  GreySamples s;
  collect_grey_samples(filled, m, std::vector<float>(model.levels()[0].size(), 1.0f), as_taught, s);
  evaluate_grey_samples(m.coefficients, m.origin, as_taught, s);
  Eigen::Matrix4d information = Eigen::Matrix4d::Zero();
  double bright = 0;
  for (size_t i = 0; i < s.count; ++i) {
    bright += s.grey[i] >= 254;
    const Point2 arm{s.x[i], s.y[i]}, slope{s.dx[i], s.dy[i]};
    const Eigen::Vector4d j(slope.x, slope.y, cross(arm, slope), dot(arm, slope));
    information += j * j.transpose();
  }
  const auto pixels = static_cast<double>(s.count);
  saturated = pixels > 0 ? bright / pixels : 0;
  // The slopes' own noise is no information.
  const double noise = 1.39 * m.noise_sigma * m.noise_sigma * pixels;
  information(0, 0) = std::max(1e-3, information(0, 0) - noise);
  information(1, 1) = std::max(1e-3, information(1, 1) - noise);
  return information;
}

void expect(const PatternTarget& target, const Image<uint8_t>& filled, TeachingReport& report) {
  const bool has_angle = target.symmetry_order() != 0;
  const Point2 held = target.model().to_centred();
  Eigen::Matrix4d information = information_of(target.model().centred(), filled, report.saturated);
  if (!has_angle) {
    information.row(2).setZero(), information.col(2).setZero();
    information(2, 2) = 1;
  }
  const double noise = std::max(0.3, report.noise_sigma);  // rounding to whole grey levels is noise too
  const Eigen::Matrix4d covariance =
      2 * noise * noise * Eigen::LDLT<Eigen::Matrix4d>(information).solve(Eigen::Matrix4d::Identity());
  // An origin far from the middle lies at the end of an arm, so turns of the part move it, and scales where
  // they are free.
  Eigen::Matrix<double, 2, 4> origin = Eigen::Matrix<double, 2, 4>::Identity();
  if (has_angle) origin.col(2) << held.y, -held.x;
  if (const Range<double>& scale = target.settings().options.scale; scale.max > scale.min)
    origin.col(3) << -held.x, -held.y;
  const Eigen::Matrix2d of_origin = origin * covariance * origin.transpose();
  report.expected = {std::sqrt(of_origin(0, 0)), std::sqrt(of_origin(1, 1)),
                     has_angle ? std::optional(radians(std::sqrt(covariance(2, 2)))) : std::nullopt,
                     std::sqrt(covariance(3, 3))};
  const SymmetricEigen axes = eigen_symmetric(covariance.topLeftCorner<2, 2>());
  report.slide_ratio = std::sqrt(axes.values[1] / std::max(1e-18, axes.values[0]));
  const double slide = std::atan2(axes.vectors(1, 1), axes.vectors(0, 1));
  report.slide = radians(slide < 0 ? slide + std::numbers::pi : slide);
}

/// Of the taught edges, grey levels over two pixels, the weakest first.
std::vector<double> edge_contrasts(const PatternTarget& target, const Image<uint8_t>& filled) {
  std::vector<double> values;
  for (const TaughtEdge& e : target.edges()) {
    const EdgeMet met = meet_edge(filled, e.place + target.origin(), e.normal, 1, 0);
    if (met.met) values.push_back(met.contrast);
  }
  std::sort(values.begin(), values.end());
  return values;
}

void contrasts(const PatternTarget& target, const Image<uint8_t>& filled, TeachingReport& report) {
  const std::vector<double> values = edge_contrasts(target, filled);
  std::vector<Point2> cut;  // one edge of each place
  for (const TaughtEdge& e : target.edges()) {
    const Point2 at = e.place + target.origin();
    const int x = static_cast<int>(std::lround(at.x)), y = static_cast<int>(std::lround(at.y));
    bool clear = true;
    for (int v = -3; v <= 3 && clear; v += 3)
      for (int u = -3; u <= 3 && clear; u += 3)
        clear = target.mask().view().holds(x + u, y + v) && target.mask()(x + u, y + v);
    const auto known = [&](Point2 other) { return distance(other, at) < 8; };
    if (!clear && std::none_of(cut.begin(), cut.end(), known)) cut.push_back(at);
  }
  report.cut_places = static_cast<int>(cut.size());
  if (values.empty()) return;
  const double seen_at_half = 2 * target.settings().options.min_contrast / target.grey_unit();
  const auto hidden = std::lower_bound(values.begin(), values.end(), seen_at_half) - values.begin();
  report.hidden_at_half = static_cast<double>(hidden) / static_cast<double>(values.size());
  report.median_contrast = target.grey_unit() * values[values.size() / 2];
  report.weakest_contrast = target.grey_unit() * values[values.size() / 20];
}

/// The taught picture in the middle of an even one, large enough to turn in.
Image<uint8_t> framed(const Image<uint8_t>& filled, int margin) {
  double sum = 0;
  for (int x = 0; x < filled.width(); ++x) sum += filled(x, 0) + filled(x, filled.height() - 1);
  Image<uint8_t> result(filled.width() + 2 * margin, filled.height() + 2 * margin);
  for (int y = 0; y < result.height(); ++y)
    for (int x = 0; x < result.width(); ++x) {
      const int u = x - margin, v = y - margin;
      result(x, y) =
          filled.view().holds(u, v) ? filled(u, v) : static_cast<uint8_t>(sum / (2.0 * filled.width()));
    }
  return result;
}

/// The best find that is another pose than the one taught, which stands at `place`.
std::optional<Likeness> likest(const PatternTarget& target, const PreparedPicture& prepared, Point2 place,
                               bool turned) {
  FindOptions options;
  options.min_score = 20, options.min_visible = 0, options.thoroughness = Thoroughness::exhaustive;
  options.min_contrast *= target.grey_unit();
  if (turned) {
    const double period = 360.0 / std::max(1, target.symmetry_order()), away = std::min(12.0, 0.2 * period);
    options.angle = {degrees(away), degrees(period - away)};
  }
  std::optional<Likeness> best;
  const double near = 0.2 * std::hypot(target.extent().width, target.extent().height);
  const Point2 middle = target.extent().centre();
  for (const Detection& s : find(target, prepared, options, Explain::never).detections)
    if ((turned || distance(Similarity2{s.x, s.y, s.angle, s.scale} * middle, place + middle) > near) &&
        (!best || s.score > best->score))
      best = Likeness{s.score, s.x, s.y, s.angle};
  return best;
}

}  // namespace

double suggested_contrast(const PatternTarget& target) {
  const std::vector<double> values =
      edge_contrasts(target, filled_under_mask(target.pixels(), target.mask()));
  const double usual = FindOptions{}.min_contrast;
  if (values.empty()) return usual * target.grey_unit();
  constexpr double share = 0.45;  // of what one edge in five falls short of
  const double noise = 3 * 0.87 * target.model().greys()->noise_sigma,
               fit = std::clamp(share * values[values.size() / 5], std::min(usual, std::max(2.0, noise)),
                                usual);
  return std::round(10 * fit) / 10 * target.grey_unit();
}

TeachingReport report_teaching(const PatternTarget& target, const PreparedPicture* picture, Point2 place) {
  TeachingReport report;
  for (const auto& level : target.model().levels()) report.edges.push_back(level.size());
  const Image<uint8_t> filled = filled_under_mask(target.pixels(), target.mask());
  report.noise_sigma = target.model().greys()->noise_sigma;
  report.turns = target.symmetry_order();
  contrasts(target, filled, report);
  expect(target, filled, report);
  report.noise_sigma *= target.grey_unit();
  if (target.symmetry_order() != 0) {
    const int margin = std::max(filled.width(), filled.height()) / 2;
    report.turned =
        likest(target, PreparedPicture(framed(filled, margin)),
               target.origin() + Point2{static_cast<double>(margin), static_cast<double>(margin)}, true);
  }
  if (picture) report.elsewhere = likest(target, *picture, place, false);
  return report;
}

}  // namespace heron
