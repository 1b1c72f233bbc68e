#pragma once
#include <optional>
#include <string>
#include <vector>

#include "heron/calibrate/plane.hpp"

namespace heron {

/// How freely a plane may lie before the camera.
enum class PlaneModel {
  similarity,  ///< camera square to the plane: turn, scale, shift; 2 pairs or more
  affine,      ///< far away and oblique; 3 pairs or more, not on one line
  homography,  ///< any view; 4 pairs or more, no three on one line
};

const char* name_of(PlaneModel model);

struct KnownPair {
  Point2 pixel;
  WorldPoint world_mm;
};

struct KnownPointsOptions {
  std::optional<PlaneModel> model = {};  ///< nothing: chosen
  /// Largest sigma of one pixel coordinate that a model may leave and still count as fitting; also what a
  /// pair is trusted to when there are no more pairs than unknowns. 0.01 to 100.
  double tolerance_px = 1;
  /// Whether the world's axes are left-handed as the camera sees them; found out where the points tell, which
  /// two or those on one line do not.
  std::optional<bool> left_handed = {};
};

struct KnownPointsCalibration {
  PlaneCalibration plane;
  PlaneModel model = PlaneModel::similarity;
  std::string why;              ///< why this model was chosen
  bool fits = true;             ///< false: a pair lies farther off than the tolerance allows
  std::optional<size_t> wrong;  ///< the pair without which the others fit, or the worst one; counted from 0
  double wrong_mm = 0;          ///< how far off it lies
  bool others_fit = false;      ///< without that pair, to the tolerance; the mapping is then theirs
  bool left_handed = false;     ///< the world's axes are left-handed as the camera sees them
};

/// A plane mapping from points whose place in the machine's coordinates is known.
///
/// Each model is fitted to all pairs, by least squares on the pixel. A freer model is taken when it leaves
/// less than two thirds of the simpler one's sigma; when none fits to `tolerance_px`, the answer is that the
/// pairs do not fit, and each in turn is left out (given that two more than needed remain; of many pairs, the
/// twelve that lie farthest off) to name the one without which a model fits. Cost: at most 36 small fits.
/// Throws Error{not_determined} for too few, coinciding or collinear points, for two points or points on one
/// line whose handedness is not given, and for pairs that put a part of the picture behind the camera.
KnownPointsCalibration calibrate_known_points(const std::vector<KnownPair>& pairs, int width, int height,
                                              const KnownPointsOptions& options = {});

}  // namespace heron
