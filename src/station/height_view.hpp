#pragma once
#include "heron/geometry/mapping.hpp"
#include "heron/heights/ground.hpp"
#include "heron/heights/height_at.hpp"
#include "heron/image/picture.hpp"
#include "heron/locate/detection.hpp"
#include "heron/report/report.hpp"
#include "heron/station/set_up.hpp"

namespace heron {

/// A height map as parts are found in it: above the table, on square pixels.
struct LevelMap {
  Picture picture;  ///< of float pixels, with their pitch
  double pitch_mm = 0;
  Point2 middle;         ///< of the map as it came, in the new pixels
  std::string unusable;  ///< why there is none; empty: there is
};

/// Height maps of a set-up.
class HeightView {
 public:
  /// Throws Error{bad_file} when the ground's file is missing or broken.
  explicit HeightView(const HeightSettings& settings);

  /// Throws Error{invalid_argument} for a picture that is no height map, whose pitch is not known, or that is
  /// of another size than the ground's.
  LevelMap level(const Picture& picture) const;
  /// The map's own: zero in its middle, X to the right, Y up.
  static Mapping mapping_of(const LevelMap& map);
  /// Measures a part at its grasp. Its z becomes known, or it has none and the reason stands in `withheld`.
  /// What lies outside the band is returned as a miss.
  std::optional<Miss> measure(ReportedPart& part, const LevelMap& map, const Mapping& mapping,
                              const PartGeometry& geometry) const;
  /// Above the table at a part's grasp; nothing where too little of the disc lies on one surface.
  std::optional<double> height(const Detection& d, const LevelMap& map, const Mapping& mapping,
                               const PartFromGrasp& grasp) const;

 private:
  std::optional<HeightAt> measured(const Detection& d, const LevelMap& map, const Mapping& mapping,
                                   const PartFromGrasp& grasp) const;
  HeightSettings settings_;
  std::optional<GroundPlane> ground_;
};

}  // namespace heron
