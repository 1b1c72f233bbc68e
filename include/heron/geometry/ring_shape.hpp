#pragma once
#include <cstdint>
#include <vector>

#include "heron/base/point.hpp"

namespace heron {

/// A ring mark of our own design: a dark ring on white paper with teeth that point inward, of which 16 places
/// are free or taken. Those that are taken encode its identity and its zero angle.
///
/// Its frame: origin in the centre, X towards the beginning of the first place, right-handed as the camera
/// sees it, Z out of the paper. Radii are given as shares of the outer one.
struct RingShape {
  static constexpr int places = 16;
  static constexpr int identities = 19;         ///< numbered from 1
  static constexpr double ring_inside = 0.74;   ///< the ring's inner rim, where teeth begin
  static constexpr double teeth_inside = 0.36;  ///< where teeth end
  static constexpr double paper = 1.3;          ///< paper around that must stay white

  int identity = 1;
  double diameter_mm = 40;  ///< of the outer rim

  /// Throws Error{invalid_argument} for an identity outside 1..19, or a diameter outside 0.5..5000 mm.
  void require_valid() const;
  /// Whether a place is bright, that is has no tooth; place 0 lengths from 0 to 22.5 degrees.
  static bool bright(int identity, int place);
  /// The dark area as closed loops in millimetres: the outer rim, and the opening with its teeth (which runs
  /// the other way round). Arcs are given as chords that lie within 1e-5 of the radius.
  std::vector<std::vector<Point2>> loops() const;
};

}  // namespace heron
