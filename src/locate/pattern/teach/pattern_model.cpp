#include "locate/pattern/model/pattern_model.hpp"

#include <fmt/format.h>

#include <cmath>
#include <mutex>
#include <optional>

#include "choose_edges.hpp"
#include "heron/image/noise.hpp"
#include "heron/image/pyramid.hpp"
#include "image/parallel.hpp"
#include "locate/pattern/edges/edge_map.hpp"
#include "locate/pattern/edges/symmetry.hpp"
#include "locate/pattern/edges/teach_edges.hpp"
#include "locate/pattern/grey/grey_model.hpp"
#include "locate/pattern/search/rivals.hpp"
#include "locate/pattern/search/self_check.hpp"

namespace heron {
namespace {

constexpr int min_edges = 24;             // at the finest level
constexpr int min_coarse_edges = 20;      // at the coarsest
constexpr int max_coarse_edges = 60;      // 60 x 4 points fit a byte
constexpr size_t max_fitted_edges = 128;  // of a candidate that is not yet worth them all
constexpr double min_coarse_size = 14;
constexpr int max_levels = 7;

const char* unit_of(const PatternSettings& settings) {
  return settings.height_step_mm > 0 ? "mm" : "grey levels";
}

/// Throws unless picture and settings can be taught from.
void require_teachable(const TaughtPicture& taught, const PatternSettings& settings, double grey_unit) {
  if (taught.pixels.width() != taught.mask.width() || taught.pixels.height() != taught.mask.height())
    fail_argument("teach: picture and mask differ in size");
  if (!is_finite(taught.origin)) fail_argument("teach: the origin must be finite numbers");
  if (!(settings.height_step_mm >= 0 && settings.height_step_mm < 1e6))
    fail_argument(fmt::format("teach: a height step of {} mm must be 0 (no heights) or above",
                              settings.height_step_mm));
  const double given = settings.edge_threshold / grey_unit;
  if (!(given >= 0 && given <= 255))
    fail_argument(fmt::format("teach: edge threshold {} must be from 0 (chosen) to {:g} {}",
                              settings.edge_threshold, 255 * grey_unit, unit_of(settings)));
  if (settings.detail < 0 || settings.detail > 3)
    fail_argument(fmt::format("teach: detail {} must be from 0 (every edge) to 3", settings.detail));
}

/// The edges that a level needs: finer structure is fainter on coarser levels.
double strength_on(int level, double finest) {
  return std::max(finest * std::ldexp(1.0, -std::min(level, 1)), 4.0);
}

bool counts_at(const Image<uint8_t>& mask, Point2 p) {
  const int x = static_cast<int>(std::lround(p.x)), y = static_cast<int>(std::lround(p.y));
  return mask.view().holds(x, y) && mask(x, y);
}

/// Whether all that an edge is located by counts: a mask that cuts an edge off just beside it moves it, and
/// its own border looks like one.
bool is_clear_at(const Image<uint8_t>& mask, Point2 p) {
  constexpr int clear = 2;  // pixels around
  for (int v = -clear; v <= clear; ++v)
    for (int u = -clear; u <= clear; ++u)
      if (u * u + v * v <= clear * clear &&
          !counts_at(mask, p + Point2{static_cast<double>(u), static_cast<double>(v)}))
        return false;
  return true;
}

/// Edges of a picture halved `detail` times, from the origin.
std::vector<TaughtEdge> shapes_at(const Image<uint8_t>& finest, int detail, double strength, Point2 origin) {
  std::vector<TaughtEdge> shapes;
  if (detail == 0) return shapes;
  Image<uint8_t> halved(finest.view());
  for (int i = 0; i < detail; ++i) halved = halve(halved);
  for (const TaughtEdge& e : edges_of(halved, detail, strength_on(detail, strength), 3))
    shapes.push_back({from_level(e.place, detail) - origin, e.normal});
  return shapes;
}

/// Those edges of level `index` that a coarser picture shows as well.
std::vector<TaughtEdge> shown_by(const std::vector<TaughtEdge>& shapes, const std::vector<TaughtEdge>& edges,
                                 int index, int detail) {
  std::vector<TaughtEdge> shown;
  const double within = 1.2 * std::ldexp(1.0, detail) + std::ldexp(1.0, index);
  for (const TaughtEdge& e : edges)
    if (std::any_of(shapes.begin(), shapes.end(), [&](const TaughtEdge& c) {
          return distance(c.place, e.place) < within && dot(c.normal, e.normal) > 0.7;
        }))
      shown.push_back(e);
  return shown;
}

}  // namespace

/// What the part knows of itself, made when first asked for.
struct PatternModel::Self {
  std::once_flag rivals_once, map_once;
  std::vector<Rival> rivals;
  std::optional<EdgeMap> map;
};

const std::vector<Rival>& PatternModel::rivals() const {
  // A thread that waits for the others must not come here again with another target.
  std::call_once(self_->rivals_once, [&] { parallel_alone([&] { self_->rivals = find_rivals(*this); }); });
  return self_->rivals;
}

const EdgeMap& PatternModel::edge_map() const {
  std::call_once(self_->map_once, [&] { self_->map.emplace(levels_[0]); });
  return *self_->map;
}

PatternModel::PatternModel(std::shared_ptr<const TaughtPicture> taught, const PatternSettings& settings)
    : name_(settings.name), taught_(std::move(taught)), self_(std::make_shared<Self>()) {
  if (settings.height_step_mm > 0) grey_unit_ = settings.height_step_mm;
  require_teachable(*taught_, settings, grey_unit_);
  const Image<uint8_t> filled = filled_under_mask(taught_->pixels, taught_->mask);
  const double noise_sigma = heron::noise_sigma(filled);
  const double given = settings.edge_threshold / grey_unit_;
  strength_ = given > 0 ? given : chosen_strength(filled, taught_->mask, noise_sigma);
  derive_levels(filled, settings);
  choose_edges(filled);
  greys_ = std::make_shared<const GreyModel>(
      grey_model(filled, taught_->mask, taught_->origin, levels_[0], noise_sigma));
  while (levels_.size() > 1 && !finds_home(*this, filled, taught_->mask))
    levels_.pop_back(), choose_edges(filled);
  add_centred(settings);
}

void PatternModel::derive_levels(const Image<uint8_t>& filled, const PatternSettings& settings) {
  const std::vector<TaughtEdge> shapes = shapes_at(filled, settings.detail, strength_, taught_->origin);
  Image<uint8_t> level = filled;
  for (int index = 0; index < max_levels; ++index) {
    std::vector<TaughtEdge> edges;
    const int min_chain = index == 0 ? 6 : index == 1 ? 4 : 2;
    for (const TaughtEdge& e : edges_of(level, index, strength_on(index, strength_), min_chain)) {
      const Point2 p = from_level(e.place, index);
      const bool counts = index == 0 ? is_clear_at(taught_->mask, p) : counts_at(taught_->mask, p);
      if (counts) edges.push_back({p - taught_->origin, e.normal});
    }
    if (index < settings.detail) edges = shown_by(shapes, edges, index, settings.detail);
    if (index == 0) {
      if (static_cast<int>(edges.size()) < min_edges)
        fail_argument(
            fmt::format("teach: nothing to hold on to here: {} edge points of at least {:.3g} {}, {} are "
                        "needed; take a region with clear edges, or lower the edge threshold",
                        edges.size(), strength_ * grey_unit_, unit_of(settings), min_edges));
      require_both_directions(edges);
      has_angle_ = edges_hold_angle(edges);
      extent_ = extent_of(edges);
    } else {
      const double size = std::sqrt(extent_.width * extent_.height) * std::ldexp(1.0, -index);
      if (size < min_coarse_size || static_cast<int>(edges.size()) < min_coarse_edges) break;
      if (!hold_both_ways(edges)) break;
    }
    levels_.push_back(std::move(edges));
    level = halve(level);
  }
}

void PatternModel::add_centred(const PatternSettings& settings) {
  const Point2 middle = extent_.centre();
  if (norm(middle) < 0.25 * std::min(extent_.width, extent_.height)) return;
  auto moved = std::make_shared<TaughtPicture>(*taught_);
  moved->origin += middle;
  const auto centred = std::make_shared<const PatternModel>(std::move(moved), settings);
  // A detection lists each edge, so both models must have the same edges.
  if (centred->levels_[0].size() == levels_[0].size()) centred_ = centred;
}

void PatternModel::choose_edges(const Image<uint8_t>& filled) {
  const std::vector<TaughtEdge> few = holding_choice(levels_[0], max_fitted_edges);
  const ContourSegments segments(few, extent_);
  const auto columns = [&](const std::vector<TaughtEdge>& edges) {
    return columns_of(edges, extent_, segments);
  };
  if (columns_.empty()) {
    for (size_t i = 0; i < levels_.size(); ++i)
      columns_.push_back(columns(i == 0 ? levels_[0] : holding_choice(levels_[i], max_fitted_edges)));
    few_ = columns(few);
    if (has_angle_) {
      const double contrast = std::max(weakest_contrast, 0.4 * strength_);
      const Symmetry symmetry =
          symmetry_of({filled, taught_->mask, columns_[0], taught_->origin, contrast}, levels_[0]);
      turns_ = symmetry.turns, turn_centre_ = symmetry.centre;
    }
  }
  columns_.resize(levels_.size());
  const int top = static_cast<int>(levels_.size()) - 1;
  const auto chosen = [&](int from) {
    CoarseEdges coarse;
    coarse.level = std::max(0, from);
    coarse.edges = holding_choice(levels_[static_cast<size_t>(coarse.level)], max_coarse_edges);
    return coarse;
  };
  coarse_alike_ = chosen(top), coarse_each_ = chosen(top - 1);
  coarse_each_.ends = segments.sort(coarse_each_.edges);
  for (CoarseEdges* coarse : {&coarse_alike_, &coarse_each_}) {
    for (const TaughtEdge& e : coarse->edges)
      coarse->directions.push_back(direction(e.normal).radians() * 128 / std::numbers::pi);
    coarse->columns = columns(coarse->edges);
  }
}

}  // namespace heron
