#pragma once
#include <optional>
#include <vector>

#include "heron/locate/pattern.hpp"

namespace heron {

/// A target that keeps only what is the same in several pictures.
struct StableTarget {
  PatternTarget target;
  int used = 0;                        ///< pictures in which the part was found
  std::vector<size_t> not_found = {};  ///< numbers of the others, from 0
  size_t edges_before = 0;             ///< on the finest level, before what is not stable was masked
};

/// Finds `target` in further pictures of the same part and masks the edges that are not seen again in at
/// least `min_share` of them: glare, a stamp that differs, clutter. Edges within three pixels are judged
/// together. Throws Error{invalid_argument} when it is found in none of the pictures, or when too few edges
/// are stable. Cost: one find a picture.
StableTarget keep_stable_edges(const PatternTarget& target,
                               const std::vector<const PreparedPicture*>& pictures, double min_share = 0.75);

/// The minimum contrast with which the taught part is still found when the light falls to half: less than
/// half of what all but one in five of its edges have, no more than the usual 8 grey levels, and above the
/// taught picture's noise. In the target's unit.
double suggested_contrast(const PatternTarget& target);

/// Where something resembles the part.
struct Likeness {
  double score = 0;
  double x = 0, y = 0;
  Angle angle;
};

/// How good a taught part is to find.
struct TeachingReport {
  std::vector<size_t> edges;    ///< on each level, the finest first
  double noise_sigma = 0;       ///< of the taught picture, grey levels
  double median_contrast = 0;   ///< of the edges, grey levels over two pixels
  double weakest_contrast = 0;  ///< that one edge in twenty falls short of
  double hidden_at_half =
      0;               ///< share of the edges that the target's own minimum contrast hides at half the light
  PoseSigma expected;  ///< of one find in a picture as noisy as the taught one; of the scale too
  double slide_ratio = 1;  ///< how much worse the position holds along its weakest direction than across
  Angle slide;             ///< that direction
  int turns = 1;           ///< how often it looks the same in a full turn; 0 when it is round
  std::optional<Likeness> turned;     ///< what resembles it most among its own turned poses, by the score
  std::optional<Likeness> elsewhere;  ///< and elsewhere in the picture it was taught from
  int cut_places = 0;    ///< where edges run into the border of what is taught: cut off, or a neighbour's
  double saturated = 0;  ///< share of the pixels beside edges that are as bright as can be
};

/// `picture` is the one it was taught from, with the part at `place` (the origin in it), or nothing. Expected
/// sigmas are the Cramer-Rao bound of teaching and finding with the taught picture's own noise. Cost: two
/// finds.
TeachingReport report_teaching(const PatternTarget& target, const PreparedPicture* picture = nullptr,
                               Point2 place = {});

}  // namespace heron
