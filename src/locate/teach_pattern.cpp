#include <fmt/format.h>

#include <Eigen/LU>
#include <limits>
#include <mutex>
#include <optional>

#include "cells.hpp"
#include "edge_map.hpp"
#include "grey_model.hpp"
#include "heron/geometry/linear.hpp"
#include "heron/image/noise.hpp"
#include "heron/image/parallel.hpp"
#include "heron/image/pyramid.hpp"
#include "heron/locate/pattern.hpp"
#include "image/vector_room.hpp"
#include "limits.hpp"
#include "meet_edges.hpp"
#include "rivals.hpp"
#include "self_check.hpp"
#include "stretches.hpp"
#include "symmetry.hpp"
#include "teach_edges.hpp"

namespace heron {
namespace {

constexpr int least_edges = 24;            // at the finest level
constexpr int least_coarse_edges = 20;     // at the coarsest
constexpr int most_coarse_edges = 60;      // 60 x 4 points fit a byte
constexpr size_t most_fitted_edges = 128;  // of a candidate that is not yet worth them all
constexpr double least_coarse_size = 14;

bool counts_at(const Image<uint8_t>& mask, Point2 p) {
  const int x = static_cast<int>(std::lround(p.x)), y = static_cast<int>(std::lround(p.y));
  return mask.view().holds(x, y) && mask(x, y);
}

Box extent_of(const std::vector<TaughtEdge>& edges) {
  double x0 = std::numeric_limits<double>::infinity(), y0 = x0, x1 = -x0, y1 = -x0;
  for (const TaughtEdge& e : edges) {
    x0 = std::min(x0, e.place.x), x1 = std::max(x1, e.place.x);
    y0 = std::min(y0, e.place.y), y1 = std::max(y1, e.place.y);
  }
  return {x0, y0, x1 - x0, y1 - y0};
}

/// Throws when the edges let the part slide in one direction, and names it.
void require_both_directions(const std::vector<TaughtEdge>& edges) {
  Eigen::Matrix2d hold = Eigen::Matrix2d::Zero();
  for (const TaughtEdge& e : edges) {
    const Eigen::Vector2d n(e.normal.x, e.normal.y);
    hold += n * n.transpose() / static_cast<double>(edges.size());
  }
  const SymmetricEigen eigen = eigen_symmetric(hold);
  if (eigen.values[0] > 0.01) return;
  const Eigen::Vector2d slide = eigen.vectors.col(0);
  double angle = std::atan2(slide.y(), slide.x()) * 180 / std::numbers::pi;
  angle = std::round(angle < 0 ? angle + 180 : angle);
  fail_argument(
      fmt::format("teach: all edges here run in one direction, so a part would slide along {:.0f} degrees "
                  "(from +x towards +y); "
                  "take a region that holds edges across it too",
                  angle == 180 ? 0 : angle));
}

/// Whether turning the part moves its edges: the lever of a turn, about the point where it is least.
bool edges_hold_angle(const std::vector<TaughtEdge>& edges) {
  Point2 middle;
  for (const TaughtEdge& e : edges) middle += e.place / static_cast<double>(edges.size());
  Eigen::Matrix3d information = Eigen::Matrix3d::Zero();
  for (const TaughtEdge& e : edges) {
    const Eigen::Vector3d j(e.normal.x, e.normal.y, cross(e.place - middle, e.normal));
    information += j * j.transpose() / static_cast<double>(edges.size());
  }
  const double lever = 1 / information.inverse()(2, 2);  // mean square shift in pixels per radian
  double squares = 0;
  for (const TaughtEdge& e : edges)
    squares += dot(e.place - middle, e.place - middle) / static_cast<double>(edges.size());
  // A circle's normals, measured under noise, miss its centre by some hundredths of its radius.
  return lever > std::max(1.0, 0.0036 * squares);
}

/// Well spread from the first few on: each next edge is the one farthest from all chosen ones.
std::vector<TaughtEdge> spread_choice(const std::vector<TaughtEdge>& edges, size_t most) {
  if (edges.empty()) return edges;
  most = std::min(most, edges.size());
  std::vector<TaughtEdge> chosen{edges[0]};
  std::vector<double> nearest(edges.size(), std::numeric_limits<double>::infinity());
  while (chosen.size() < most) {
    size_t farthest = 0;
    for (size_t i = 0; i < edges.size(); ++i) {
      const Point2 d = edges[i].place - chosen.back().place;
      nearest[i] = std::min(nearest[i], dot(d, d));
      if (nearest[i] > nearest[farthest]) farthest = i;
    }
    chosen.push_back(edges[farthest]);
  }
  return chosen;
}

EdgeColumns columns_of(const std::vector<TaughtEdge>& edges, const Box& extent, const Stretches& stretches) {
  EdgeColumns c;
  c.stretches = stretches.count();
  for (const TaughtEdge& e : edges) c.stretch.push_back(stretches.of(e));
  c.count = edges.size();
  for (size_t i = 0; i < edges.size() + room_for_vectors; ++i) {
    const TaughtEdge& e = edges[std::min(i, edges.size() - 1)];
    c.x.push_back(static_cast<float>(e.place.x)), c.y.push_back(static_cast<float>(e.place.y));
    c.normal_x.push_back(static_cast<float>(e.normal.x)),
        c.normal_y.push_back(static_cast<float>(e.normal.y));
  }
  const double cell = cell_size(extent.width, extent.height);
  const int across = static_cast<int>(extent.width / cell) + 2;
  c.cells = across * (static_cast<int>(extent.height / cell) + 2);
  const auto steps = [&](double from_start) { return static_cast<int>(std::max(0.0, from_start) / cell); };
  for (const TaughtEdge& e : edges)
    c.cell.push_back(
        std::clamp(steps(e.place.y - extent.y) * across + steps(e.place.x - extent.x), 0, c.cells - 1));
  return c;
}

/// How many edges hold the part along the direction in which they hold it least.
struct Hold {
  double edges = 0, share = 0;
  Point2 slide;
};

Hold hold_of(const std::vector<TaughtEdge>& edges) {
  if (edges.empty()) return {};
  Eigen::Matrix2d normals = Eigen::Matrix2d::Zero();
  for (const TaughtEdge& e : edges) {
    const Eigen::Vector2d n(e.normal.x, e.normal.y);
    normals += n * n.transpose();
  }
  const SymmetricEigen eigen = eigen_symmetric(normals);
  return {eigen.values[0],
          eigen.values[0] / static_cast<double>(edges.size()),
          {eigen.vectors(0, 0), eigen.vectors(1, 0)}};
}

/// Whether a search may begin with these edges: what lets the part slide sends it anywhere along.
bool hold_both_ways(const std::vector<TaughtEdge>& edges) {
  constexpr double fewest = 5, least_share = 0.05;
  const Hold hold = hold_of(edges);
  return hold.edges >= fewest && hold.share >= least_share;
}

/// A choice that is spread well and of which no small share holds the part either way: where few edges run
/// across the others, more of those are taken than their number asks for.
std::vector<TaughtEdge> holding_choice(const std::vector<TaughtEdge>& edges, size_t most) {
  std::vector<TaughtEdge> chosen = spread_choice(edges, most);
  constexpr double well = 0.15;
  const Hold hold = hold_of(chosen);
  if (chosen.size() < most || hold.share >= well) return chosen;
  std::vector<TaughtEdge> across;
  for (const TaughtEdge& e : edges)
    if (std::abs(dot(e.normal, hold.slide)) > 0.7) across.push_back(e);
  const std::vector<TaughtEdge> few = spread_choice(across, most / 5);
  std::vector<TaughtEdge> others = spread_choice(edges, most - few.size());
  // One after every few, so that the first of them hold it as well.
  std::vector<TaughtEdge> mixed;
  const auto taken = [&](const TaughtEdge& e) {
    return std::any_of(few.begin(), few.end(), [&](const TaughtEdge& f) { return f.place == e.place; });
  };
  std::erase_if(others, taken);
  for (size_t i = 0, k = 0; i < others.size(); ++i) {
    mixed.push_back(others[i]);
    if (i % 4 == 3 && k < few.size()) mixed.push_back(few[k++]);
  }
  return mixed;
}

}  // namespace

/// What the part knows of itself, made when first asked for.
struct PatternTarget::Self {
  std::once_flag rivals_once, map_once;
  std::vector<Rival> rivals;
  std::optional<EdgeMap> map;
};

const std::vector<Rival>& PatternTarget::rivals() const {
  // A thread that waits for the others must not come here again with another target.
  std::call_once(self_->rivals_once, [&] { parallel_alone([&] { self_->rivals = find_rivals(*this); }); });
  return self_->rivals;
}

const EdgeMap& PatternTarget::edge_map() const {
  std::call_once(self_->map_once, [&] { self_->map.emplace(levels_[0]); });
  return *self_->map;
}

const KindInfo& PatternTarget::info() {
  static const KindInfo kind{
      .word = "pattern",
      .what = "edges of a part inside a region",
      .limits = {"angle", "scale", "least score", "least contrast", "count", "min visible", "most outside",
                 "inversion", "thoroughness", "region"}};
  return kind;
}

const std::vector<SettingRow<PatternSettings>>& PatternTarget::rows() {
  static const std::vector<SettingRow<PatternSettings>> rows{
      {"least_strength", &PatternSettings::least_strength,
       "grey levels over two pixels from which on an edge is taught; 0 chooses"},
      {"detail", &PatternSettings::detail,
       "0 teaches every edge; 1, 2, 3 only those that a picture halved so often still shows"},
      {"height_step_mm", &PatternSettings::height_step_mm,
       "millimetres a level of a relief; 0: grey levels"}};
  return rows;
}

std::vector<Figure> PatternTarget::facts() const {
  return {{"edges", static_cast<double>(levels_[0].size())}, {"strength", strength()}};
}

PatternTarget::PatternTarget(Image<uint8_t> pixels, Image<uint8_t> mask, Point2 origin,
                             PatternSettings settings)
    : PatternTarget(TaughtPicture{.pixels = std::move(pixels), .mask = std::move(mask), .origin = origin},
                    std::move(settings)) {}

PatternTarget::PatternTarget(TaughtPicture taught, PatternSettings settings)
    : taught_(std::move(taught)), settings_(std::move(settings)), self_(std::make_shared<Self>()) {
  const Image<uint8_t>&pixels = taught_.pixels, &mask = taught_.mask;
  const Point2 origin = taught_.origin;
  if (pixels.width() != mask.width() || pixels.height() != mask.height())
    fail_argument("teach: picture and mask differ in size");
  if (!is_finite(origin)) fail_argument("teach: the origin must be finite numbers");
  const double given = settings_.least_strength / grey_unit();
  if (!(given >= 0 && given <= 255))
    fail_argument(fmt::format("teach: strength {} must be from 0 (chosen) to {:g} {}",
                              settings_.least_strength, 255 * grey_unit(),
                              settings_.height_step_mm > 0 ? "mm" : "grey levels"));
  if (settings_.detail < 0 || settings_.detail > 3)
    fail_argument(fmt::format("teach: detail {} must be from 0 (every edge) to 3", settings_.detail));
  if (!(settings_.height_step_mm >= 0 && settings_.height_step_mm < 1e6))
    fail_argument(fmt::format("teach: a height step of {} mm must be 0 (no heights) or above",
                              settings_.height_step_mm));
  require_valid(settings_.limits, grey_unit());
  const Image<uint8_t> filled = filled_under_mask(pixels, mask);
  const double noise_sigma = heron::noise_sigma(filled);
  strength_ = given > 0 ? given : chosen_strength(filled, mask, noise_sigma);
  const auto strength_on = [&](int level) {
    return std::max(strength_ * std::ldexp(1.0, -std::min(level, 1)), 4.0);
  };
  const auto shapes_at = [&](const Image<uint8_t>& finest, int detail) {  // edges of a coarser level
    std::vector<TaughtEdge> shapes;
    if (detail == 0) return shapes;
    Image<uint8_t> halved(finest.view());
    for (int i = 0; i < detail; ++i) halved = halve(halved);
    for (const TaughtEdge& e : edges_of(halved, detail, strength_on(detail), 3))
      shapes.push_back({from_level(e.place, detail), e.normal});
    return shapes;
  };
  Image<uint8_t> level = filled;

  const std::vector<TaughtEdge> coarse_shapes = shapes_at(filled, settings_.detail);
  const auto shown_on = [&](const std::vector<TaughtEdge>& edges, int index) {
    std::vector<TaughtEdge> shown;
    const double within = 1.2 * std::ldexp(1.0, settings_.detail) + std::ldexp(1.0, index);
    for (const TaughtEdge& e : edges)
      if (std::any_of(coarse_shapes.begin(), coarse_shapes.end(), [&](const TaughtEdge& c) {
            return distance(c.place - origin, e.place) < within && dot(c.normal, e.normal) > 0.7;
          }))
        shown.push_back(e);
    return shown;
  };
  for (int index = 0; index < 7; ++index) {
    std::vector<TaughtEdge> edges;
    const int least_chain = index == 0 ? 6 : index == 1 ? 4 : 2;
    for (const TaughtEdge& e : edges_of(level, index, strength_on(index), least_chain)) {
      const Point2 p = from_level(e.place, index);
      if (counts_at(mask, p)) edges.push_back({p - origin, e.normal});
    }
    if (index < settings_.detail) edges = shown_on(edges, index);
    if (index == 0) {
      if (static_cast<int>(edges.size()) < least_edges)
        fail_argument(fmt::format(
            "teach: nothing to hold on to here: {} edge points of at least {:.3g} {}, {} are "
            "needed; take a region with clear edges, or lower the strength limit",
            edges.size(), strength(), settings_.height_step_mm > 0 ? "mm" : "grey levels", least_edges));
      require_both_directions(edges);
      has_angle_ = edges_hold_angle(edges);
      extent_ = extent_of(edges);
    } else {
      const double size = std::sqrt(extent_.width * extent_.height) * std::ldexp(1.0, -index);
      if (size < least_coarse_size || static_cast<int>(edges.size()) < least_coarse_edges) break;
      if (!hold_both_ways(edges)) break;
    }
    levels_.push_back(std::move(edges));
    level = halve(level);
  }
  choose_edges(filled);
  greys_ = std::make_shared<const GreyModel>(grey_model(filled, mask, origin, levels_[0], noise_sigma));
  while (levels_.size() > 1 && !finds_home(*this, filled, mask)) levels_.pop_back(), choose_edges(filled);
  const Point2 middle = extent_.centre();
  if (norm(middle) < 0.25 * std::min(extent_.width, extent_.height)) return;
  TaughtPicture moved = taught_;
  moved.origin += middle;
  const auto centred = std::make_shared<const PatternTarget>(std::move(moved), settings_);
  // Edges are told one by one, so they must be the same ones.
  if (centred->levels_[0].size() == levels_[0].size()) centred_ = centred;
}

void PatternTarget::choose_edges(const Image<uint8_t>& filled) {
  const std::vector<TaughtEdge> few = holding_choice(levels_[0], most_fitted_edges);
  const Stretches stretches(few, extent_);
  const auto columns = [&](const std::vector<TaughtEdge>& edges) {
    return columns_of(edges, extent_, stretches);
  };
  if (columns_.empty()) {
    for (size_t i = 0; i < levels_.size(); ++i)
      columns_.push_back(columns(i == 0 ? levels_[0] : holding_choice(levels_[i], most_fitted_edges)));
    few_ = columns(few);
    if (has_angle_) {
      const double contrast = std::max(weakest_contrast, 0.4 * strength_);
      const Symmetry symmetry =
          symmetry_of({filled, taught_.mask, columns_[0], taught_.origin, contrast}, levels_[0]);
      turns_ = symmetry.turns, turn_centre_ = symmetry.centre;
    }
  }
  columns_.resize(levels_.size());
  const int top = static_cast<int>(levels_.size()) - 1;
  const auto chosen = [&](int from) {
    CoarseEdges coarse;
    coarse.level = std::max(0, from);
    coarse.edges = holding_choice(levels_[static_cast<size_t>(coarse.level)], most_coarse_edges);
    return coarse;
  };
  coarse_alike_ = chosen(top), coarse_each_ = chosen(top - 1);
  coarse_each_.ends = stretches.sort(coarse_each_.edges);
  for (CoarseEdges* coarse : {&coarse_alike_, &coarse_each_}) {
    for (const TaughtEdge& e : coarse->edges)
      coarse->directions.push_back(direction(e.normal).radians() * 128 / std::numbers::pi);
    coarse->columns = columns(coarse->edges);
  }
}

PatternTarget teach_pattern(const ImageView<const uint8_t>& picture, const Region& region,
                            PatternSettings settings, const ImageView<const uint8_t>& valid) {
  return PatternTarget::taught_from({.grey = picture, .region = region, .valid = valid}, std::move(settings));
}

PatternTarget PatternTarget::taught_from(const TeachingPicture& picture, PatternSettings settings) {
  return {cut_out(picture, settings.origin), std::move(settings)};
}

}  // namespace heron
