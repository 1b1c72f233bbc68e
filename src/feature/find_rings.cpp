#include <fmt/format.h>

#include <Eigen/LU>

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

#include "geometry/linear.hpp"
#include "heron/base/error.hpp"
#include "heron/base/median.hpp"
#include "heron/feature/ring_mark.hpp"
#include "heron/image/components.hpp"
#include "heron/image/sample.hpp"
#include "local_threshold.hpp"
#include "ring_fit.hpp"

namespace heron {
namespace {

constexpr double full_turn = 2 * std::numbers::pi;
constexpr int samples_per_place = 8, code_samples = samples_per_place * RingShape::places;
using Code = std::array<float, code_samples>;

/// A dark blob as an ellipse, if it can be one: its moments give the ellipse's shape, its box the size, since
/// the opening and the teeth make the moments alone too large.
std::optional<RingPlace> ellipse_of(const Component& c, const ImageView<const uint8_t>& picture,
                                    double min_diameter) {
  const double w = c.right - c.left + 1, h = c.bottom - c.top + 1;
  if (std::min(w, h) < 0.8 * min_diameter || c.left < 2 || c.top < 2 || c.right > picture.width() - 3 ||
      c.bottom > picture.height() - 3)
    return std::nullopt;
  const double determinant = c.xx * c.yy - c.xy * c.xy;
  if (!(determinant > 0)) return std::nullopt;
  const double kx = 0.5 * w / std::sqrt(c.xx), ky = 0.5 * h / std::sqrt(c.yy), k = 0.5 * (kx + ky);
  if (k < 1.3 || k > 2.1 || std::abs(kx - ky) > 0.25 * k) return std::nullopt;
  const double share = c.area / (std::numbers::pi * k * k * std::sqrt(determinant));
  if (share < 0.4 || share > 0.95) return std::nullopt;
  Eigen::Matrix2d shape;
  shape << c.xx, c.xy, c.xy, c.yy;
  shape *= k * k;
  const double root = std::sqrt(shape.determinant());  // the square root of a symmetric 2 x 2 matrix
  Eigen::Matrix2d axes = (shape + root * Eigen::Matrix2d::Identity()) / std::sqrt(shape.trace() + 2 * root);
  axes.col(1) *= -1;  // y points down in the picture
  RingPlace place;
  place.centre = {0.5 * (c.left + c.right), 0.5 * (c.top + c.bottom)};
  place.axes = axes;
  return place;
}

/// The picture along a circle or a ray of the mark; nothing outside.
std::optional<double> grey_at(const ImageView<const uint8_t>& picture, const RingPlace& place, double radius,
                              double turn) {
  const Eigen::Vector2d p = place.pixel({radius * std::cos(turn), radius * std::sin(turn)});
  if (!can_sample(picture, p[0], p[1])) return std::nullopt;
  return bilinear(picture, p[0], p[1]);
}

/// Moves the ellipse onto the outer rim: along 64 rays the steepest change from dark to bright, a
/// least-squares ellipse through those, twice without the farthest. False when there is no such rim.
bool settle_on_rim(const ImageView<const uint8_t>& picture, RingPlace& place) {
  constexpr int rays = 64, unknowns = 5;
  double left = 0, size = 0;
  for (int round = 0; round < 4; ++round) {
    size = std::sqrt(std::abs(place.axes.determinant()));
    const double from = round == 0 ? 0.72 : 0.84, to = round == 0 ? 1.3 : 1.16;
    const double step = std::min(0.03, 0.5 / size);
    std::vector<std::pair<double, double>> rim;  // turn, radius
    for (int i = 0; i < rays; ++i) {
      const double turn = full_turn * i / rays;
      std::vector<double> greys;
      for (double r = from; r <= to; r += step) {
        const auto grey = grey_at(picture, place, r, turn);
        if (!grey) break;
        greys.push_back(*grey);
      }
      size_t best = 0;
      double steepest = 0;
      const auto rise = [&](size_t k) { return greys[k + 2] - greys[k]; };
      for (size_t k = 0; k + 2 < greys.size(); ++k)
        if (rise(k) > steepest) steepest = rise(k), best = k;
      if (steepest < 4 || best == 0 || best + 3 >= greys.size()) continue;
      const double a = rise(best - 1), b = steepest, c = rise(best + 1), bend = a - 2 * b + c;
      const double shift = bend < 0 ? std::clamp(0.5 * (a - c) / bend, -0.5, 0.5) : 0;
      rim.emplace_back(turn, from + step * (static_cast<double>(best) + 1 + shift));
    }
    if (rim.size() < rays * 3 / 4) return false;
    Eigen::VectorXd x;
    for (int trim = 0; trim < 3; ++trim) {
      Eigen::MatrixXd a(rim.size(), unknowns);
      Eigen::VectorXd b(rim.size());
      for (Eigen::Index i = 0; i < a.rows(); ++i) {
        const auto [t, r] = rim[static_cast<size_t>(i)];
        a.row(i) << 1, std::cos(t), std::sin(t), std::cos(2 * t), std::sin(2 * t);
        b[i] = r - 1;
      }
      const LinearLeastSquares fit = least_squares(a, b);
      if (!fit.determined) return false;
      x = fit.x;
      const Eigen::VectorXd off = (b - a * x).cwiseAbs();
      left = std::sqrt(fit.sum_of_squares / static_cast<double>(rim.size()));
      std::vector<std::pair<double, double>> kept;
      for (size_t i = 0; i < rim.size(); ++i)
        if (off[static_cast<Eigen::Index>(i)] < std::max(2.2 * left, 0.2 / size)) kept.push_back(rim[i]);
      if (kept.size() == rim.size() || kept.size() < rays * 2 / 3) break;
      rim = std::move(kept);
    }
    Eigen::Matrix2d grown;
    grown << 1 + x[0] + x[3], x[4], x[4], 1 + x[0] - x[3];
    place.centre += place.axes * Eigen::Vector2d(x[1], x[2]);
    place.axes = place.axes * grown;
    if (!place.axes.allFinite() || place.axes.determinant() >= 0) return false;
  }
  return left * size < std::max(0.5, 0.04 * size);
}

/// The teeth as seen, 0 ring to 1 paper, averaged over the middle of the band; nothing without contrast.
std::optional<Code> code_seen(const ImageView<const uint8_t>& picture, const RingPlace& place) {
  std::vector<double> dark, paper;
  Code code{};
  for (int i = 0; i < code_samples; ++i) {
    const double turn = full_turn * (i + 0.5) / code_samples;
    const auto ring = grey_at(picture, place, 0.87, turn), white = grey_at(picture, place, 1.15, turn);
    if (!ring || !white) return std::nullopt;
    dark.push_back(*ring), paper.push_back(*white);
    for (const double r : {0.46, 0.55, 0.64})
      code[static_cast<size_t>(i)] += static_cast<float>(*grey_at(picture, place, r, turn) / 3);
  }
  const double low = median(dark), high = median(paper);
  if (high - low < 8) return std::nullopt;
  for (float& v : code) v = static_cast<float>((v - low) / (high - low));
  return code;
}

struct Reading {
  int identity = 0, shift = 0;         // of samples
  double correlation = -1, next = -1;  // next: of the next best identity
};

Reading read_code(const Code& code) {
  double sum = 0, squares = 0;
  for (const float v : code) sum += v, squares += v * v;
  const double n = code_samples, spread = std::sqrt(std::max(1e-9, squares - sum * sum / n));
  // Sums over runs as long as a place make each correlation sixteen terms.
  std::array<double, code_samples> place_sum{};
  for (int i = 0; i < code_samples; ++i)
    for (int k = 0; k < samples_per_place; ++k)
      place_sum[static_cast<size_t>(i)] += code[static_cast<size_t>((i + k) % code_samples)];
  Reading best;
  for (int identity = 1; identity <= RingShape::identities; ++identity) {
    int taken = 0;
    for (int k = 0; k < RingShape::places; ++k) taken += RingShape::bright(identity, k);
    const double mean = static_cast<double>(taken) / RingShape::places;
    const double own = std::sqrt(n * mean * (1 - mean));
    double most = -1;
    int at = 0;
    for (int shift = 0; shift < code_samples; ++shift) {
      double dot = 0;
      for (int k = 0; k < RingShape::places; ++k)
        if (RingShape::bright(identity, k))
          dot += place_sum[static_cast<size_t>((shift + k * samples_per_place) % code_samples)];
      const double c = (dot - mean * sum) / (own * spread);
      if (c > most) most = c, at = shift;
    }
    if (most > best.correlation)
      best = {identity, at, most, best.correlation};
    else
      best.next = std::max(best.next, most);
  }
  return best;
}

/// Places that do not read as the identity has them, at the fitted place.
int places_wrong(const ImageView<const uint8_t>& picture, const RingFit& fit, int identity) {
  const auto code = code_seen(picture, fit.place);
  if (!code) return RingShape::places;
  int wrong = 0;
  for (int k = 0; k < RingShape::places; ++k) {
    double mean = 0;
    for (int i = 2; i < samples_per_place - 2; ++i)
      mean += (*code)[static_cast<size_t>(k * samples_per_place + i)] / (samples_per_place - 4);
    wrong += (mean > 0.5) != RingShape::bright(identity, k);
  }
  return wrong;
}

RingSeen seen_from(int identity, const RingFit& fit) {
  RingSeen s;
  s.identity = identity;
  s.centre = {fit.place.centre[0], fit.place.centre[1]};
  const Eigen::Vector2d x = fit.place.axes.col(0);
  s.angle = radians(std::atan2(x[1], x[0]));
  const Eigen::Matrix2d& a = fit.place.axes;
  s.diameter_px = 2 * std::sqrt(std::abs(a.determinant()));
  const double turning = std::hypot(a(0, 0) + a(1, 1), a(1, 0) - a(0, 1)),
               mirroring =
                   std::hypot(a(0, 0) - a(1, 1), a(1, 0) + a(0, 1));  // half axes: their half sum, difference
  s.axis_ratio = std::abs(turning - mirroring) / (turning + mirroring);
  s.score = 100 * std::max(0.0, fit.correlation);
  s.contrast = fit.contrast;
  s.noise = fit.noise;
  const auto& c = fit.covariance;
  const Eigen::Vector2d across = Eigen::Vector2d(-x[1], x[0]) / x.squaredNorm();
  const double angle_variance = across.dot(c.block<2, 2>(2, 2) * across);
  // The logarithm of the area changes by the trace of inverse(axes) * change.
  const Eigen::Matrix2d inverse = fit.place.axes.inverse();
  Eigen::Vector4d by_axes(inverse(0, 0), inverse(0, 1), inverse(1, 0), inverse(1, 1));
  by_axes *= 0.5;
  s.sigma = {std::sqrt(c(0, 0)), std::sqrt(c(1, 1)), radians(std::sqrt(angle_variance)),
             std::sqrt(by_axes.dot(c.block<4, 4>(2, 2) * by_axes))};

  // pixel = (axes m + centre (1 + tilt m)) / (1 + tilt m)
  const RingPlace& p = fit.place;
  s.pixel_from_mark.topLeftCorner<2, 2>() = p.axes + p.centre * p.tilt.transpose();
  s.pixel_from_mark.topRightCorner<2, 1>() = p.centre;
  s.pixel_from_mark.bottomLeftCorner<1, 2>() = p.tilt.transpose();
  s.pixel_from_mark(2, 2) = 1;
  Eigen::Matrix<double, 8, 8> by = Eigen::Matrix<double, 8, 8>::Zero();
  for (int i = 0; i < 2; ++i) {
    for (int j = 0; j < 2; ++j) {
      by(3 * i + j, 2 + 2 * j + i) = 1;
      by(3 * i + j, i) = p.tilt[j];
      by(3 * i + j, 6 + j) = p.centre[i];
    }
    by(3 * i + 2, i) = 1;
    by(6 + i, 6 + i) = 1;
  }
  s.covariance = by * fit.covariance * by.transpose();
  return s;
}

std::optional<RingSeen> read_ring(const ImageView<const uint8_t>& picture, RingPlace place,
                                  const RingSearch& search) {
  if (!settle_on_rim(picture, place)) return std::nullopt;
  const auto code = code_seen(picture, place);
  if (!code) return std::nullopt;
  const Reading reading = read_code(*code);
  if (reading.correlation < 0.7 || reading.correlation - reading.next < 0.04) return std::nullopt;
  const double turn = full_turn * reading.shift / code_samples;
  Eigen::Matrix2d turned;
  turned << std::cos(turn), -std::sin(turn), std::sin(turn), std::cos(turn);
  RingFit start;
  start.place = place;
  start.place.axes = place.axes * turned;
  const auto plain = fit_ring(picture, reading.identity, start, false);
  if (!plain || 100 * plain->correlation < search.min_score || plain->contrast < 8) return std::nullopt;
  if (places_wrong(picture, *plain, reading.identity) > 1) return std::nullopt;
  const auto perspective = fit_ring(picture, reading.identity, *plain, true);
  if (!perspective) return std::nullopt;
  RingSeen seen = seen_from(reading.identity, *perspective);
  if (seen.diameter_px * std::sqrt(seen.axis_ratio) < search.min_diameter_px || seen.axis_ratio < 0.4)
    return std::nullopt;
  return seen;
}

/// Adds the marks of one part of the picture, whose first pixel is (left, top).
void add_rings(std::vector<RingSeen>& found, const ImageView<const uint8_t>& picture,
               const ImageView<const uint8_t>& part, int left, int top, const RingSearch& search) {
  if (part.width() < 16 || part.height() < 16) return;
  int last = 0;
  for (const int size : {27, 81, 243}) {
    const int window = std::min(size, (std::min(part.width(), part.height()) - 1) | 1);
    if (window == last) break;
    last = window;
    for (Component& c : components(darker_than_around(part, window, false))) {
      c.x += left, c.left += left, c.right += left, c.first_x += left;
      c.y += top, c.top += top, c.bottom += top;
      const auto place = ellipse_of(c, picture, search.min_diameter_px);
      if (!place) continue;
      const bool known = std::any_of(found.begin(), found.end(), [&](const RingSeen& f) {
        return distance(f.centre, {place->centre[0], place->centre[1]}) < 0.3 * f.diameter_px;
      });
      if (known) continue;
      if (auto seen = read_ring(picture, *place, search)) found.push_back(std::move(*seen));
    }
  }
}

/// A window's pixels, copied, since kernels read beyond a row's end.
void add_rings(std::vector<RingSeen>& found, const ImageView<const uint8_t>& picture, const Box& window,
               const RingSearch& search) {
  const auto within = [](double v, int end) { return static_cast<int>(std::clamp<double>(v, 0, end)); };
  const int left = within(std::floor(window.x), picture.width()),
            top = within(std::floor(window.y), picture.height()),
            right = within(std::ceil(window.x + window.width), picture.width()),
            bottom = within(std::ceil(window.y + window.height), picture.height());
  if (right - left < 16 || bottom - top < 16) return;
  const Image<uint8_t> part(
      ImageView<const uint8_t>(picture.row(top) + left, right - left, bottom - top, picture.stride()));
  add_rings(found, picture, part.view(), left, top, search);
}

}  // namespace

std::vector<RingSeen> find_ring_marks(const ImageView<const uint8_t>& picture, const RingSearch& search) {
  if (!(search.min_diameter_px >= 12))
    fail_argument(
        fmt::format("ring marks: a min diameter of {:g} px; it begins at 12", search.min_diameter_px));
  if (!(search.min_score >= 0 && search.min_score <= 100))
    fail_argument(fmt::format("ring marks: a min score of {:g}; it goes from 0 to 100", search.min_score));
  for (const Box& w : search.windows)
    if (!std::isfinite(w.x + w.y + w.width + w.height))
      fail_argument("ring marks: a window to search in must be finite");
  std::vector<RingSeen> found;
  for (const Box& window : search.windows) add_rings(found, picture, window, search);
  if (search.windows.empty()) add_rings(found, picture, picture, 0, 0, search);
  std::sort(found.begin(), found.end(), [](const RingSeen& a, const RingSeen& b) {
    return a.identity != b.identity ? a.identity < b.identity : a.score > b.score;
  });
  return found;
}

}  // namespace heron
