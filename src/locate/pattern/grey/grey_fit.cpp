#include <optional>

#include "grey_blur.hpp"
#include "grey_further.hpp"
#include "grey_model.hpp"
#include "locate/common/best_mean.hpp"
#include "locate/common/cells.hpp"
#include "locate/common/nth_smallest.hpp"
#include "same_phase.hpp"

namespace heron {
namespace {

constexpr auto first_light = static_cast<Eigen::Index>(first_light_unknown);

struct GreyScratch {
  GreySamples samples;
  Image<float> blurred;
  std::vector<float> residuals, roots;  // the roots of the weights
  FurtherScratch further;
  InstrumentScratch instruments;
  GreyPulls contributions;
};

/// What the grey values themselves differ by among each other, squared and added up.
double squares_of_greys(const GreyNormal& normal, const GreyLight& light, double size) {
  Eigen::Matrix<double, grey_columns, 1> grey = Eigen::Matrix<double, grey_columns, 1>::Zero();
  grey.segment<4>(first_light) << light.gain, light.along_x * size, light.along_y * size, light.offset;
  grey[grey_unknowns] = 1;
  const Eigen::Matrix<double, grey_columns, 1> products = normal.all * grey;
  constexpr Eigen::Index offset = grey_unknowns - 1;
  const double sum = products[offset];
  return std::max(0.0, grey.dot(products) - sum * sum / normal.all(offset, offset));
}

/// So many tell light, scatter and blur well enough.
constexpr size_t enough_samples = 1000;

/// From the smaller four tenths of what a step leaves, which a cover that reaches in does not touch.
double scatter_after(const GreyStep& step, const GreyProblem& problem, std::vector<float>& residuals) {
  some_residuals(problem, step, enough_samples, residuals);
  for (float& r : residuals) r = std::abs(r);
  return std::max(0.3, static_cast<double>(nth_smallest(residuals, residuals.size() * 4 / 10)) / 0.5244);
}

/// What the taught picture's noise adds to the products of the columns that a pose moves: its slope is noise
/// as well, and taken for structure it would shorten every step and promise too much.
GreyMatrix noise_of_slopes(const GreyWeights& m, double noise_sigma, double gain) {
  constexpr double slope_noise = 2.163;  // mean square of the cardinal cubic spline's slope, over all places
  GreyMatrix noise = GreyMatrix::Zero();
  noise.topLeftCorner<4, 4>() << m.sum, 0, -m.y, m.x,  //
      0, m.sum, m.x, m.y,                              //
      -m.y, m.x, m.squares, 0,                         //
      m.x, m.y, 0, m.squares;
  return noise * (slope_noise * noise_sigma * noise_sigma * gain * gain);
}

GreyLight changed(const GreyLight& light, const GreyVector& x, double size) {
  return {light.gain + x[first_light], light.along_x + x[first_light + 1] / size,
          light.along_y + x[first_light + 2] / size, light.offset + x[first_light + 3]};
}

/// How far the part's outer pixels move by a step.
double shift_of(const GreyVector& x, double size) {
  return std::hypot(x[0], x[1]) + size * (std::abs(x[2]) + std::abs(x[3]));
}

Similarity2 moved(const Similarity2& pose, const GreyVector& x) {
  const Point2 shift = rotated(Point2{x[0], x[1]}, pose.angle) * pose.scale;
  return {pose.x + shift.x, pose.y + shift.y, (pose.angle + radians(x[2])).wrapped(),
          pose.scale * std::exp(x[3])};
}

double size_of(const GreyModel& model) {
  return 0.5 * std::hypot(model.coefficients.width(), model.coefficients.height());
}

/// One fit, on a part's samples.
class GreyFitting {
 public:
  GreyFitting(const GreyModel& model, const GreySearch& search, const Similarity2& start, bool same_phase,
              GreyScratch& s)
      : model_(model),
        search_(search),
        free_{true, true, search.free_angle, search.free_scale, true, true, true, true},
        start_(start),
        same_phase_(same_phase),
        at_(start),
        s_(s),
        problem_{s.samples,
                 {},
                 size_of(model),
                 Point2{0.5 * (model.coefficients.width() - 1), 0.5 * (model.coefficients.height() - 1)} -
                     model.origin} {}

  GreyFit run(const Image<uint8_t>& picture);

 private:
  bool look_at_some();
  bool take_first_step();
  std::optional<FitState> weighed() const;
  double growth_of_noise() const;
  /// Of what a look leaves; whole grey levels leave something of everything.
  static double variance(const FitState& look) {
    return std::max(0.09, look.solved.squares / look.weights.sum);
  }
  double noise() const {
    return std::max(0.3, std::hypot(search_.noise_sigma, 0.8 * problem_.light.gain * model_.noise_sigma));
  }
  bool knows_less_than_edges(const FitState& look) const;
  Eigen::Matrix4d covariance_of(const GreyStep& step, const GreyMatrix& inverse) const;
  /// How far the outer pixels may be off, squared; of the taught picture.
  double spread(const Eigen::Matrix4d& covariance) const {
    return covariance(0, 0) + covariance(1, 1) +
           problem_.size * problem_.size *
               ((free_[2] ? covariance(2, 2) : 0) + (free_[3] ? covariance(3, 3) : 0));
  }
  double spread(const FitSigma& sigma) const {
    const double turn = problem_.size * sigma.angle.radians() * at_.scale;
    return (sigma.x * sigma.x + sigma.y * sigma.y + turn * turn + std::pow(problem_.size * sigma.scale, 2)) /
           (at_.scale * at_.scale);
  }
  void tell(GreyFit& fit, const Eigen::Matrix4d& covariance, const Eigen::Matrix4d& noise) const;
  static constexpr double far = 0.7, settled = 0.07;  // pixels
  const Image<float>& surface() const { return blurred_ == 0 ? model_.coefficients : s_.blurred; }

  const GreyModel& model_;
  const GreySearch& search_;
  const GreyFree free_;
  const Similarity2 start_;
  const bool same_phase_;
  Similarity2 at_;
  GreyScratch& s_;
  GreyProblem problem_;
  double blurred_ = 0;  // the taught surface, by so many square pixels
  GreyStep step_{};     // residuals are taken after it, so that outliers show
  double scatter_ = 0;  // of theirs
};

/// The light, and a step at the pose.
bool GreyFitting::take_first_step() {
  const double gain_before = problem_.light.gain;
  const GreySolved first(GreyNormal(grey_products(problem_)), free_);
  if (!first.good) return false;
  problem_.light = changed(problem_.light, first.x, problem_.size);
  // What moved the grey values was the step times the gain, which was taken for another so far.
  const GreyVector moves = first.x * (gain_before / problem_.light.gain);
  step_ = {};
  for (size_t k = 0; k < first_light_unknown; ++k) step_[k] = moves[static_cast<Eigen::Index>(k)];
  return shift_of(moves, problem_.size) <= 2 * far;
}

/// A step over the samples, weighed by what the first one leaves; nothing where it cannot be or leads too
/// far.
std::optional<FitState> GreyFitting::weighed() const {
  const GreyWeights weights = weigh(problem_, step_, 4.685 * scatter_, s_.roots);
  const double taught_noise =
      model_.noise_sigma * (blurred_ == 0 ? 1 : std::sqrt(slope_noise_left(blurred_)));
  const GreyMatrix slope_noise = noise_of_slopes(weights, taught_noise, problem_.light.gain);
  const GreySolved solved(GreyNormal(weights.products), free_, slope_noise);
  if (!solved.good || weights.sum < 0.4 * static_cast<double>(s_.samples.count) ||
      shift_of(solved.x, problem_.size) > far)
    return std::nullopt;
  return FitState{problem_, s_.roots, weights, solved, free_, scatter_, slope_noise};
}

/// After a step, the covariance of the unknowns from what the residuals of whole cells of the part add up to:
/// right for noise that neighbouring pixels share, and for surfaces that differ a little, as well as for
/// white noise.
Eigen::Matrix4d GreyFitting::covariance_of(const GreyStep& step, const GreyMatrix& inverse) const {
  GreyInfluence influence;
  Eigen::Map<Eigen::Matrix<double, 4, grey_unknowns, Eigen::RowMajor>>(influence.data()) =
      inverse.topRows<4>();
  const int width = model_.coefficients.width(), height = model_.coefficients.height();
  const double cell = cell_size(width, height);
  const GreyCells cells{model_.origin, cell, static_cast<int>(width / cell) + 2,
                        static_cast<int>(height / cell) + 2};
  find_contributions(problem_, step, s_.roots, influence, cells, s_.contributions);
  return covariance_of_neighbours(s_.contributions, cells.across, grey_unknowns);
}

/// Residuals of a pattern behind the part go together over a cell and, less, beyond its neighbours: variances
/// that grow from pixels to cells, more than noise alone does, grow beyond them by about the root of that.
double growth_beyond_cells(double cells, double noise) { return std::sqrt(std::max(1.0, cells / noise)); }

/// What is more than noise is told by few cells, and neighbours and what goes beyond cells, as told by them,
/// scatter as well: a third of the degrees of freedom are left. Of noise the variance is known.
Eigen::Matrix4d widened(const Eigen::Matrix4d& covariance, const Eigen::Matrix4d& noise,
                        const Eigen::Array4d& freedom) {
  const Eigen::Array4d whole = covariance.diagonal().array(),
                       more = (whole - noise.diagonal().array()).max(0) / whole.max(1e-300),
                       growth = 1 + more * (student_growth(freedom / 3) - 1);
  const Eigen::Vector4d wider = growth.sqrt();
  return wider.asDiagonal() * covariance * wider.asDiagonal();
}

/// By how much variances of noise alone grow from pixels, each by itself, to cells: neighbours share the
/// noise of a taught pixel, the more the more the surface is blurred.
double GreyFitting::growth_of_noise() const {
  static const double unblurred = noise_behind(0, 0);
  const double searched = std::pow(std::max(0.3, search_.noise_sigma), 2),
               taught = std::pow(problem_.light.gain * model_.noise_sigma, 2);
  return (searched + taught) /
         (searched + taught * (blurred_ == 0 ? unblurred : noise_behind(blurred_, blurred_)));
}

/// Foretold from some of the samples: of all, what pixels err by themselves shrinks, what goes together does
/// not.
bool GreyFitting::knows_less_than_edges(const FitState& look) const {
  if (!search_.edges) return false;
  const GreyMatrix inverse = look.inverse();
  const double share = s_.samples.are_some ? 0.25 : 1,
               alone = variance(look) * spread(look.spread_of_noise()),
               cells = spread(covariance_of(look.step(), inverse)),
               together = std::max(share * alone, cells - (1 - share) * alone);
  return together * growth_beyond_cells(together, growth_of_noise() * share * alone) >
         3 * spread(*search_.edges);
}

/// Light, step and blur from some of the samples, at a pose to which they may move. False where the fit ends:
/// it runs too far, or something else than the part changes the grey values, so that edges know better.
bool GreyFitting::look_at_some() {
  constexpr double rough = 1.15,        // of the squares that noise alone leaves
      max_blur = 4, min_change = 0.03;  // square pixels
  constexpr int max_rounds = 3;
  int blurs_left = 3;
  for (int rounds_left = max_rounds;; --rounds_left) {
    evaluate_grey_samples(surface(), model_.origin, at_, s_.samples);
    if (!take_first_step()) return false;
    scatter_ = scatter_after(step_, problem_, s_.residuals);
    const std::optional<FitState> look = weighed();
    if (!look) return false;
    const GreyVector& x = look->solved.x;
    if (rounds_left > 1 && shift_of(x, problem_.size) > settled) {
      at_ = moved(at_, x), problem_.light = changed(problem_.light, x, problem_.size);
      continue;
    }
    const double beside_noise = look->solved.squares / (noise() * noise() * look->weights.sum);
    if ((beside_noise > 1 || blurred_ != 0) && blurs_left-- > 0) {
      const double more = more_blur(*look, model_, at_, blurred_, noise(), s_.further),
                   next = std::clamp(blurred_ + more, min_blur, max_blur);
      if (std::abs(next - blurred_) > min_change) {
        blurred_ = next, rounds_left = max_rounds + 1;
        blur(model_.coefficients, blurred_, s_.blurred);
        problem_.light = changed(problem_.light, x, problem_.size);
        continue;
      }
    }
    return beside_noise < rough || problem_.falls_steeply() || !knows_less_than_edges(*look);
  }
}

/// Sigmas; and where edges know the pose as well, the best mean. What both have in common is the noise of
/// pixels: what else changes grey values hardly moves edges.
void GreyFitting::tell(GreyFit& fit, const Eigen::Matrix4d& covariance, const Eigen::Matrix4d& noise) const {
  const double c = cos(fit.pose.angle), sn = sin(fit.pose.angle), scale = fit.pose.scale;
  const FitSigma edges = search_.edges.value_or(FitSigma{});
  const auto mean = [&](double grey, double alone, double by_edges, double off) {
    grey = std::max(grey, alone), by_edges = std::max(by_edges, alone);
    if (!search_.edges) return std::pair{0.0, grey};
    const BestMean best(grey * grey, by_edges * by_edges, alone * alone);
    return std::pair{best.share * off, std::sqrt(best.variance)};
  };
  const auto along = [&](Point2 u, double by_edges, double off) {
    return mean(scale * sigma_along(covariance, u), scale * sigma_along(noise, u), by_edges, off);
  };
  const auto [x, sigma_x] = along({c, -sn}, edges.x, start_.x - fit.pose.x);
  const auto [y, sigma_y] = along({sn, c}, edges.y, start_.y - fit.pose.y);
  fit.pose.x += x, fit.pose.y += y;
  fit.sigma.x = sigma_x, fit.sigma.y = sigma_y;
  if (search_.free_angle) {
    const auto [turn, sigma] =
        mean(std::sqrt(covariance(2, 2)), std::sqrt(noise(2, 2)), edges.angle.radians(),
             (start_.angle - fit.pose.angle).wrapped().radians());
    fit.pose.angle = (fit.pose.angle + radians(turn)).wrapped(), fit.sigma.angle = radians(sigma);
  }
  if (search_.free_scale) {
    const auto [growth, sigma] = mean(scale * std::sqrt(covariance(3, 3)), scale * std::sqrt(noise(3, 3)),
                                      edges.scale, start_.scale - scale);
    fit.pose.scale += growth, fit.sigma.scale = sigma;
  }
}

GreyFit GreyFitting::run(const Image<uint8_t>& picture) {
  GreyFit fit;
  fit.pose = at_;
  constexpr size_t min_pixels = 60;
  if (s_.samples.count < min_pixels || !look_at_some()) return fit;
  const size_t some = s_.samples.count;
  collect_other_grey_samples(picture, s_.samples);
  evaluate_grey_samples(surface(), model_.origin, at_, s_.samples, some);
  const std::optional<FitState> once = weighed();
  if (!once) return fit;
  step_ = once->step();  // all samples know it better than some did; so they are weighed once more
  const std::optional<FitState> look = weighed();
  if (!look) return fit;
  fit.pose = moved(at_, look->solved.x);
  // Where the taught surface explains less than half of what the light alone leaves unexplained, it is
  // another one, whatever its edges say.
  const GreyNormal normal(look->weights.products);
  if (look->solved.squares > 0.5 * squares_of_greys(normal, problem_.light, problem_.size)) return fit;
  const BentLight bent = bent_light(*look, look->solved.inverse(), s_.further);
  if (!(shift_of(bent.shift, problem_.size) < settled)) return fit;  // no light: another surface
  fit.pose = moved(fit.pose, bent.shift);
  straighten(s_.samples, bent, s_.further);
  GreyStep step = look->step();
  for (size_t k = 0; k < step.size(); ++k) step[k] += bent.shift[static_cast<Eigen::Index>(k)];
  Eigen::Vector4d growth = Eigen::Vector4d::Ones();
  if (same_phase_) {
    const InstrumentStep last = instrument_step(picture, *look, step, fit.pose, s_.instruments);
    if (!last.good || !(shift_of(last.shift, problem_.size) < far)) return fit;
    fit.pose = moved(fit.pose, last.shift);
    growth = last.growth;
  }
  const GreyMatrix inverse = look->inverse();
  const Eigen::Matrix4d cells = growth.asDiagonal() * covariance_of(step, inverse) * growth.asDiagonal(),
                        noise = growth.asDiagonal() * look->spread_of_noise() * growth.asDiagonal() *
                                (growth_of_noise() * variance(*look));
  Eigen::Matrix4d covariance =
      widened(bent.covariance + cells * growth_beyond_cells(spread(cells), spread(noise)), noise,
              freedom_of_cells(s_.contributions));
  if (!std::isfinite(spread(covariance))) return fit;
  if (same_phase_) {
    constexpr double left_by_sampling = 0.0015;  // pixels; as bench_pattern_accuracy shows with little noise
    covariance.topLeftCorner<2, 2>().diagonal().array() += left_by_sampling * left_by_sampling;
  }
  tell(fit, covariance, noise);
  fit.fitted = true;
  return fit;
}

}  // namespace

GreyFit fit_greys(const Image<uint8_t>& picture, const GreyModel& model, const std::vector<float>& seen,
                  const Similarity2& start, const GreySearch& search) {
  static thread_local GreyScratch s;
  const bool same_phase = share_a_phase(start, size_of(model));
  // Cut off nearer to an edge, what a sampled surface lacks near the Nyquist frequency would not cancel.
  collect_grey_samples(picture, model, seen, start, s.samples,
                       {.enough = enough_samples, .wider = same_phase ? max_wider_spots : 0});
  return GreyFitting(model, search, start, same_phase, s).run(picture);
}

}  // namespace heron
