#pragma once
#include <Eigen/Core>
#include <span>

#include "heron/locate/edge.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "image/sample_places.hpp"

namespace heron {

/// A band, an arc or a fan as a grid of places: `steps` along the scan, one pixel apart on its middle line,
/// and `lanes` across. An arc runs round its centre, a fan over the same places from inside to outside.
class Scan {
 public:
  /// From five numbers of a band or six of an arc; docs of EdgeSettings. Throws Error{invalid_argument} that
  /// names `what` when they describe nothing.
  static Scan band(const std::vector<double>& numbers, const char* what);
  static Scan arc(const std::vector<double>& numbers);
  static Scan fan(const std::vector<double>& numbers);
  /// A fan over the same directions, about another centre and between other radii.
  Scan about(Point2 centre, double inner, double outer) const;

  int steps() const { return steps_; }
  int lanes() const { return lanes_; }
  bool round() const { return round_; }  ///< its end is its start
  bool is_arc() const { return is_arc_; }
  bool is_fan() const { return is_fan_; }
  bool is_straight() const { return !is_arc_ && !is_fan_; }
  Point2 centre() const { return centre_; }
  double length() const { return length_; }
  double width() const { return width_; }
  double radius() const { return radius_; }                 ///< of an arc or a fan, its middle line's
  double outer() const { return radius_ + 0.5 * length_; }  ///< of a fan
  /// `along` in pixels from the start, `across` from the middle line.
  Point2 at(double along, double across) const;
  Point2 direction(double along) const;  ///< unit, of the scan there
  /// Of an arc: the unit vector from its centre there, and the place `across` from the middle line.
  Point2 outwards(double along) const {
    return unit(radians(start_ + (sweep_ < 0 ? -1 : 1) * along / radius_));
  }
  /// Of a fan: the unit vector along the lane there.
  Point2 lane_direction(double across) const {
    return unit(radians(start_ + 0.5 * sweep_ + across / radius_));
  }
  Point2 on_arc(Point2 outwards, double across) const { return centre_ + outwards * (radius_ + across); }
  double per_step() const { return per_step_; }  ///< pixels (of the middle line) from step to step
  /// What a person reads: pixels of a band, degrees of an arc.
  double told(double along) const { return is_arc_ ? along / radius_ * 180 / std::numbers::pi : along; }
  /// Steps by which a straight edge that crosses the middle line at `slope` (steps a pixel across) lies
  /// beside a constant slope: round an arc straight edges bend. 0 for a band.
  double bend(double slope, double across) const;
  double lane(int i) const { return (i + 0.5 - 0.5 * lanes_) * width_ / lanes_; }
  bool inside(int width, int height) const;
  std::vector<Point2> border() const;

 private:
  bool is_arc_ = false, is_fan_ = false, round_ = false;
  Point2 centre_;
  double length_ = 0, width_ = 0;              // along and across; of an arc only across
  Point2 along_{1, 0};                         // unit, of a band
  double radius_ = 0, start_ = 0, sweep_ = 0;  // of an arc or a fan, its middle radius; radians
  int steps_ = 0, lanes_ = 0;
  double per_step_ = 1;
};

/// An edge of a profile.
struct ScanEdge {
  double at = 0;        ///< pixels from the start, on the middle line
  double contrast = 0;  ///< after less before, grey levels
  double sigma = 0;     ///< of `at`
  double blur = 1;
};

/// Reads the brightness along lanes of a scan; beyond the picture its outermost pixels'.
class LaneReader {
 public:
  /// Picture and scan must outlive the reader.
  LaneReader(const Image<uint8_t>& picture, const Scan& scan);
  /// The mean across lanes `first` to `end`, a value a step. `skew`: docs of `Strip`; not of a fan.
  std::vector<double> mean_of(int first, int end, std::vector<float>* skew = nullptr);

 private:
  const Image<uint8_t>& picture_;
  const Scan& scan_;
  Point2 turn_{1, 0};  // from lane to lane of a fan
  LanesOfPlaces places_;
  std::vector<float> sums_;
};

/// Some lanes of a scan side by side.
struct Strip {
  double across = 0;  ///< of its middle
  int lanes = 0;
  std::vector<double> profile;
  /// Values between pixels are read bilinearly: as a mean about the place, whose third moment moves a step
  /// that all lanes meet at the same fraction of a pixel by up to 0.02 pixels. A sixth of that moment along
  /// the scan, steps cubed, mean of the lanes.
  std::vector<float> skew;
};

/// The whole scan in strips of six lanes or some more; one where there are fewer than twelve.
std::vector<Strip> strips_of(const Image<uint8_t>& picture, const Scan& scan);

/// The mean of all lanes.
std::vector<double> profile_of(const std::vector<Strip>& strips);

/// The change of brightness at each step: its slope, smoothed as much as a lens does, in grey levels of the
/// step that would have that slope.
std::vector<double> strength_along(const std::vector<double>& profile, bool round);

/// A profile whose edges are looked for.
struct ProfileSearch {
  const std::vector<double>* profile = nullptr;
  bool round = false;
  double least = 0;                               ///< strength, grey levels
  double noise = 0;                               ///< of a profile's value
  const std::vector<double>* strength = nullptr;  ///< of the profile, where the caller has it
  double beside = 0;  ///< weaker ones are not looked for, but down to here none is fitted across; 0: `least`
};

/// Every extremum of the strength of at least `least`, refined by fitting a blurred step; in the order of the
/// scan. Many profiles in one call cost a fraction of as many calls.
std::vector<std::vector<ScanEdge>> edges_along(std::span<const ProfileSearch> profiles);
std::vector<ScanEdge> edges_along(const std::vector<double>& profile, bool round, double least, double noise);

}  // namespace heron
