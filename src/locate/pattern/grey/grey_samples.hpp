#pragma once
#include <limits>
#include <vector>

#include "picked_pixels.hpp"

namespace heron {

/// Pixels of a picture beside a part's edges and what the taught spline holds for each, as columns of `count`
/// values, filled up with zeros to whole vectors.
struct GreySamples {
  size_t count = 0;
  bool are_some = false;             ///< about a quarter; the others can still be collected
  Point2 base;                       ///< a pixel near the part
  std::vector<float> across, down;   ///< from `base`, picture pixels
  std::vector<float> grey;           ///< in the searched picture
  std::vector<float> x, y;           ///< in the taught picture, from the part's origin
  std::vector<float> value, dx, dy;  ///< of the spline
  PickedPixels picked;
  void make_room(size_t values);
};

inline constexpr double max_wider_spots = 1.4;  ///< beyond, splines would look under the mask

struct GreyCollecting {
  size_t enough = std::numeric_limits<size_t>::max();  ///< of a quarter of the pixels; else all are collected
  double wider = 0;  ///< spots around edges are so much larger, pixels of the taught picture, at most
                     ///< `max_wider_spots`
};

/// The picture's pixels that lie in the spots of seen edges at `pose`, in strips of 64 columns. At first
/// about a quarter of them, of each row one of four runs of 16 columns, of the next row the next.
void collect_grey_samples(const Image<uint8_t>& picture, const GreyModel& model,
                          const std::vector<float>& seen, const Similarity2& pose, GreySamples& samples,
                          const GreyCollecting& options = {});
/// Adds the others, if there are.
void collect_other_grey_samples(const Image<uint8_t>& picture, GreySamples& samples);
/// The spline of `coefficients`, those of the model or the same blurred, under each from the one at `first`,
/// at `pose`, which may differ from that of collecting by some pixels. Cost: some seven nanoseconds a sample.
void evaluate_grey_samples(const Image<float>& coefficients, Point2 origin, const Similarity2& pose,
                           GreySamples& samples, size_t first = 0);
/// The same spline's values alone, into a column of their own. Cost: some five nanoseconds a sample.
void values_under(const Image<float>& coefficients, Point2 origin, const Similarity2& pose,
                  const GreySamples& samples, std::vector<float>& values);
void collect_grey_samples_plain(const Image<uint8_t>& picture, const GreyModel& model,
                                const std::vector<float>& seen, const Similarity2& pose,
                                GreySamples& samples);
void evaluate_grey_samples_plain(const Image<float>& coefficients, Point2 origin, const Similarity2& pose,
                                 GreySamples& samples);

}  // namespace heron
