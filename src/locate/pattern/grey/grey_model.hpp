#pragma once
#include <optional>
#include <vector>

#include "heron/image/image.hpp"
#include "heron/locate/pattern.hpp"
#include "locate/common/fit_sigma.hpp"

namespace heron {

/// Round spots of a part whose pixels are compared, as columns.
struct GreySpots {
  double radius = 0;          ///< pixels of the taught picture
  std::vector<float> x, y;    ///< from the part's origin, pixels of the taught picture
  std::vector<int32_t> edge;  ///< which one each belongs to
};

/// Square pixels of blur from one taught surface to a softer one.
inline constexpr double softer_by = 0.25;

/// The taught picture as a smooth surface, for the last step of a fit.
struct GreyModel {
  Image<float> coefficients;  ///< of the cubic spline through the taught pixels
  Image<float> softer;        ///< the same behind `softer_by` square pixels of blur
  /// Around edges; and single pixels, where the mask takes a part of an edge's surroundings.
  GreySpots around_edges, single_pixels;
  Point2 origin;           ///< of the part, pixels of the taught picture
  double noise_sigma = 0;  ///< of the taught picture
};

/// `filled` is the taught picture with what lies under `mask` filled in. Pixels whose spline would look under
/// the mask are left out.
GreyModel grey_model(const Image<uint8_t>& filled, const Image<uint8_t>& mask, Point2 origin,
                     const std::vector<TaughtEdge>& edges, double noise_sigma);

/// A pose fitted to grey values.
struct GreyFit {
  bool fitted = false;
  Similarity2 pose;  ///< picture_from_target
  FitSigma sigma;    ///< the noise of both pictures carried to the pose; 0 for what is held
};

/// What a fit to grey values may move, what it may take for noise, and what is known without it.
struct GreySearch {
  bool free_angle = true, free_scale = false;
  double noise_sigma = 0;              ///< of the searched picture
  std::optional<FitSigma> edges = {};  ///< of the pose that it starts from, by edges alone
};

/// Moves `start`, already right to some tenths of a pixel, to where the picture's own pixels agree best with
/// the spline of the taught ones: least squares over the pixels beside those edges whose `seen` is above 0,
/// in pose and light together (gain, its slope along x and y, offset), robust by Tukey's weights. The picture
/// is not resampled, so its noise stays white. Where the picture is less sharp than the taught one, or a
/// little more so, the taught surface is blurred to match. Not fitted where the brightness does not follow
/// the taught one, nor where something else, a pattern behind the part, changes it so that edges alone know
/// the pose far better, judged by a quarter of the pixels. Where edges know it about as well, the pose is the
/// best mean of both. Cost: some tens of nanoseconds a pixel beside an edge, several times that where it
/// blurs.
GreyFit fit_greys(const Image<uint8_t>& picture, const GreyModel& model, const std::vector<float>& seen,
                  const Similarity2& start, const GreySearch& search);

}  // namespace heron
