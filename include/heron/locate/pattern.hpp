#pragma once
#include <optional>
#include <string>
#include <vector>

#include "heron/base/range.hpp"
#include "heron/image/image.hpp"
#include "heron/image/region.hpp"
#include "heron/locate/sighting.hpp"

namespace heron {

/// What may be found. Ranges are strict; the defaults are the generous ones.
struct FindLimits {
  Range<Angle> angle = full_turn;
  Range<double> scale = {1.0, 1.0};  ///< 0.1 to 10; zero width fixes it
  double least_score = 60;           ///< 0 to 100
  double least_contrast =
      8;          ///< grey levels over two pixels across an edge; a weaker edge is not seen. 1 to 255
  int count = 0;  ///< the best so many; 0 means all
  double most_overlap = 0.5;  ///< share of the smaller part's box that another find may cover, 0 to 1
  Region region = {};         ///< where a part's origin may lie; an empty one means the whole picture
};

/// When to search beyond the ranges for the reason why nothing was found.
enum class Explain { never, when_nothing, always };

/// How a pattern is taught.
struct TeachPattern {
  std::string name = "pattern";
  std::optional<Point2> origin =
      {};  ///< which point of the picture is the part's position; its region's centre unless given
  double least_strength = 0;  ///< grey levels over two pixels from which on an edge is taught; 0 chooses by
                              ///< the region's strongest edges
  FindLimits limits = {};     ///< kept with the target, used when a find names none
  PartPlace place = {};       ///< kept with the target
};

/// One edge of the taught part.
struct TaughtEdge {
  Point2 place;   ///< from the origin, pixels of the taught picture
  Point2 normal;  ///< unit, from dark to bright
};

/// What was taught: the pixels with their mask, the settings, and the edges derived from both.
class PatternTarget {
 public:
  /// Derives the edges. `mask` is 255 where a pixel counts; what lies under 0 is never looked at. `origin` in
  /// coordinates of `pixels`. Throws Error{invalid_argument} when there are too few edges to hold on to, or
  /// all in one direction.
  PatternTarget(Image<uint8_t> pixels, Image<uint8_t> mask, Point2 origin, TeachPattern settings);

  const std::string& name() const { return settings_.name; }
  const Image<uint8_t>& pixels() const { return pixels_; }
  const Image<uint8_t>& mask() const { return mask_; }
  Point2 origin() const { return origin_; }
  const TeachPattern& settings() const { return settings_; }
  /// The strength limit that was used; the given one or the one chosen.
  double strength() const { return strength_; }

  /// Edges per pyramid level, the finest first; `place` is in pixels of level 0 on every level.
  const std::vector<std::vector<TaughtEdge>>& levels() const { return levels_; }
  /// Edges of the coarsest level chosen for the first search, at most 60, well spread.
  const std::vector<TaughtEdge>& coarse_edges() const { return coarse_; }
  /// Box of all edges about the origin.
  const Box& extent() const { return extent_; }
  /// False for a part that looks the same at every angle; its angle is then reported as 0.
  bool has_angle() const { return has_angle_; }

 private:
  Image<uint8_t> pixels_, mask_;
  Point2 origin_;
  TeachPattern settings_;
  double strength_ = 0;
  std::vector<std::vector<TaughtEdge>> levels_;
  std::vector<TaughtEdge> coarse_;
  Box extent_;
  bool has_angle_ = true;
};

/// Teaches the part of `picture` inside `region`. Cost: the region's pixels.
/// Throws Error{invalid_argument} when the region lies (partly) outside the picture or holds nothing to hold
/// on to.
PatternTarget teach_pattern(const ImageView<const uint8_t>& picture, const Region& region,
                            TeachPattern settings = {});

class Survey;

/// Finds the pattern in a picture: coarse to fine over quantised gradient directions, then least squares on
/// edges; docs/pattern.md. The score is the share of the taught edge length that is seen again, weighed by
/// nearness and direction; brightness has no part in it. Not finding is an answer with its reasons in
/// `misses`. Throws Error{invalid_argument} when the limits contradict themselves.
Findings find(const PatternTarget& target, const Survey& survey, const FindLimits& limits,
              Explain explain = Explain::when_nothing);

/// The same with the limits that were kept with the target.
Findings find(const PatternTarget& target, const Survey& survey);

}  // namespace heron
