#pragma once
#include <optional>
#include <string>
#include <vector>

#include "heron/base/frame.hpp"

namespace heron {

/// A part that was found, sent, and touched afterwards.
struct TouchedPart {
  Pose2 sent;                        ///< where the hand was sent, millimetres in the robot's frame
  Point2 touched;                    ///< where the robot stood when it touched that spot of the part
  std::optional<double> sigma = {};  ///< of the sent place, in each coordinate
};

/// A cause of errors of arrival, as far as the touched parts tell.
template <class Value>
struct ErrorCause {
  Value value{};      ///< touched minus sent
  double sigma = 0;   ///< of the value, or of each coordinate of it; in the value's own unit
  double rms_mm = 0;  ///< how far it alone moves the parts
  bool seen = false;  ///< it stands out of what chance alone makes of it, by three sigmas
};

/// Where the error of arrival comes from. Each touched place is
///   sent + shift + turn x (sent - middle) + scale (sent - middle) + hand, turned as the hand was
/// and the rest.
struct TouchCheck {
  double rms_mm = 0;         ///< of touched minus sent, of the parts that are not wrong
  Point2 middle;             ///< of the parts; turn and scale are about it
  ErrorCause<Point2> shift;  ///< of the frame, or of the whole mapping
  ErrorCause<double> turn;   ///< of the frame, degrees
  ErrorCause<double> scale;  ///< of the mapping, or of the parts' height: millimetres a millimetre
  std::optional<ErrorCause<Point2>>
      hand;                   ///< in the hand's own frame: its centre, or the grasp; nothing where all
                              ///< hands were turned alike, which leaves it within the shift
  double left_mm = 0;         ///< root mean square of the rest
  double expected_mm = 0;     ///< what sent and touched places may err by alone
  bool rest_seen = false;     ///< the rest is larger than that (chi-squared, 99.9 %)
  std::vector<size_t> wrong;  ///< parts that do not fit the others at all, worst first; left out
  std::vector<Point2> rest;   ///< of each part, the wrong ones too
};

/// `touch_sigma`: how exactly a spot is touched, in each coordinate, millimetres. Sigmas hold for errors as
/// large as told; where the rest is larger, they grow with it. Cost: a small least-squares problem, once for
/// each part that is wrong. Throws Error{not_determined} with fewer than five parts, or parts that lie on one
/// spot, or touched places that are another map of the sent ones (metres, x and y swapped);
/// Error{invalid_argument} for values that are not finite or a sigma that is not above 0.
TouchCheck check_touches(const std::vector<TouchedPart>& parts, double touch_sigma);

}  // namespace heron
