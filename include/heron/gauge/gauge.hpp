#pragma once
#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "heron/locate/edge.hpp"
#include "heron/locate/target.hpp"
#include "heron/report/reading.hpp"

namespace heron {

// Shapes are drawn on a reference picture, in its pixels (in millimetres of the world for gauges that stay
// there), and are lists of numbers as in the file:
//   band     x, y of its centre, length along the scan, width across, direction of the scan in degrees
//   ring     x, y of its centre, inner and outer radius, direction where it starts in degrees, how far it
//   turns (360: all) box      x, y of its centre, width, height, direction of its width in degrees polygon x,
//   y of its corners one after the other disc     x, y of its centre, radius

/// Place of an edge along a band, or around a ring. Line: the edge across the band.
/// Values: "contrast"; of a ring no line.
struct EdgeGauge {
  static constexpr const char *id = "edge", *what = "Place of an edge along a band, or around a ring";
  std::vector<double> band = {}, ring = {};
  EdgeChange change = EdgeChange::either;
  EdgeOrder order = EdgeOrder::strongest;
  double threshold = 0;  ///< grey levels from side to side; 0 follows the noise
};

/// A straight line through an edge, by strips across a band; or from one point to another.
enum class LineReading { straightness, rms, length };
struct LineGauge {
  static constexpr const char *id = "line", *what = "Straightness of an edge; or a line through two points";
  std::vector<double> band = {};
  std::vector<std::string> through = {};  ///< two gauges with a point, instead of a band
  LineReading reads = LineReading::straightness;
  EdgeChange change = EdgeChange::either;
  EdgeOrder order = EdgeOrder::strongest;
  double threshold = 0;
};

/// A circle or an arc met by scans from the ring's inner radius to its outer one.
enum class CircleReading { diameter, roundness };
struct CircleGauge {
  static constexpr const char *id = "circle", *what = "Diameter or roundness of a circle or an arc";
  std::vector<double> ring = {};
  CircleReading reads = CircleReading::diameter;
  EdgeChange change = EdgeChange::either;
  EdgeOrder order = EdgeOrder::strongest;
  double threshold = 0;
};

/// Where a distance is taken.
enum class DistanceAt {
  middle,    ///< between points and centres; of lines at their middle
  nearest,   ///< of a circle its rim, of a line its nearest end
  farthest,  ///< of a circle its far rim, of a line its farthest end
};
struct DistanceGauge {
  static constexpr const char *id = "distance",
                              *what = "Distance between two edges, points, lines or circles";
  std::vector<std::string> between = {};
  DistanceAt at = DistanceAt::middle;
  bool with_sign = false;  ///< positive where the second lies ahead of the first along its scan
  double max_angle =
      5;  ///< degrees between two lines; beyond they are not parallel, and there is no distance
};

/// Angle between two lines.
enum class AngleReading {
  corner,  ///< of the corner that both scans look into, 0 to 180: 90 for a square part scanned inwards from
           ///< both sides
  turn,    ///< from the first line to the second, -180 to 180, from x towards y of picture or world; a line
         ///< runs to the right of its scan as the picture shows it, one through two points from the first to
         ///< the second
};
struct AngleGauge {
  static constexpr const char *id = "angle", *what = "Angle between two edges or lines";
  std::vector<std::string> between = {};
  AngleReading reads = AngleReading::corner;
};

/// Width between opposite edges along a band.
enum class WidthPair { nearest, widest, narrowest, outermost, all };
enum class WidthTone { either, bright, dark };
struct WidthGauge {
  static constexpr const char *id = "width", *what = "Width between opposite edges along a band";
  std::vector<double> band = {};
  WidthPair pair = WidthPair::nearest;  ///< to the band's middle
  WidthTone tone = WidthTone::either;   ///< of what lies between the two edges
  double threshold = 0;
};

/// Repeated edges along a band or around a ring: teeth, lines, holes.
enum class RepeatReading { count, pitch, error, missing };
struct RepeatsGauge {
  static constexpr const char *id = "repeats", *what = "Count, pitch and missing ones of repeated edges";
  std::vector<double> band = {}, ring = {};
  EdgeChange change = EdgeChange::rising;  ///< rising or falling counts each tooth once, either twice
  RepeatReading reads = RepeatReading::count;
  double threshold = 0;
};

/// Share of a shape that lies inside a range of brightness or color.
struct FillGauge {
  static constexpr const char *id = "fill", *what = "Share of a shape inside a range of brightness or color";
  std::vector<double> box = {}, disc = {}, ring = {}, polygon = {};
  std::vector<double> levels = {};  ///< least and most grey level
  std::string color = {};           ///< name of a color target whose range counts, instead of `levels`
  /// Box of even brightness that the levels follow when the light changes.
  std::vector<double> light_box = {};
  double light_level = 0;  ///< mean of that box on the reference picture
};

/// Bright or dark blobs inside a shape.
enum class BlobTone { bright, dark };
enum class BlobThreshold {
  valley,    ///< between the two groups of grey levels in the shape
  fixed,     ///< `level` grey levels
  relative,  ///< `level` times the shape's median
};
enum class BlobReading { count, area, largest };
struct BlobsGauge {
  static constexpr const char *id = "blobs", *what = "Number or area of bright or dark blobs in a shape";
  std::vector<double> box = {}, disc = {}, ring = {}, polygon = {};
  BlobTone tone = BlobTone::bright;
  BlobThreshold threshold = BlobThreshold::valley;
  double level = 0;
  double min_area = 8, max_area = 0;  ///< square pixels of the reference picture; a largest of 0: any
  BlobReading reads = BlobReading::count;
};

/// A taught detail and where it lies against the place that the part gives it.
enum class DetailReading { offset, angle, score };
struct DetailGauge {
  static constexpr const char *id = "detail", *what = "Offset of a taught detail from its place on the part";
  std::string target = {};  ///< its name; its place is its reference pose
  DetailReading reads = DetailReading::offset;
  double position_tolerance = 20;  ///< pixels about its place in which it is searched for
  double angle_tolerance = 10;     ///< degrees
};

/// Detections of a target inside a shape.
struct CountGauge {
  static constexpr const char *id = "count", *what = "Number of detections of a target in a shape";
  std::string target = {};
  std::vector<double> box = {}, disc = {}, ring = {}, polygon = {};
};

/// Chips along a border.
enum class BorderReading { chips, largest, length, depth };
struct BorderGauge {
  static constexpr const char *id = "border", *what = "Chips along a taught border";
  std::string target = {};  ///< name of a border target; its place is its reference pose
  BorderReading reads = BorderReading::largest;
  double position_tolerance = 20;  ///< pixels about its place
  double angle_tolerance = 3;      ///< degrees
};

/// Heights of a height map along a band.
enum class ProfileReading {
  step,      ///< after less before the largest step along the band
  slope,     ///< of a line through the heights, degrees; positive where they rise along the band
  flatness,  ///< peak to valley of the heights about that line
  highest,   ///< highest place along the band
  volume,    ///< of the band's whole area above `base_mm`, cubic millimetres
};
struct ProfileGauge {
  static constexpr const char *id = "profile",
                              *what = "Step, slope, flatness, highest place or volume in a height map";
  std::vector<double> band = {};
  ProfileReading reads = ProfileReading::step;
  double base_mm = 0;
};

/// An upright picture of a box on the part, for a reader outside of the library: a program that reads text.
struct CropGauge {
  static constexpr const char *id = "crop",
                              *what = "Upright picture of a box on the part, for an outside reader";
  std::vector<double> box = {};
  int height = 48;           ///< pixels of the picture, 8 to 1024; its width follows the box
  std::string program = {};  ///< command line of the reader; empty: the picture is cut and not read
  std::string pattern = {};  ///< regular expression (ECMAScript) that the whole text matches
  std::vector<std::string> allowed = {};  ///< or the text is one of these
  double min_confidence = 0;              ///< 0 to 1; a text that is less sure is bad
  double timeout_s = 2;                   ///< seconds that the program has
};

/// Another value of a gauge that was measured already.
struct ValueGauge {
  static constexpr const char *id = "value", *what = "Another value of a measured gauge";
  std::string of = {}, reads = {};  ///< the gauge, and the value's name
};

/// The table of kinds.
using GaugeKind = std::variant<EdgeGauge, LineGauge, CircleGauge, DistanceGauge, AngleGauge, WidthGauge,
                               RepeatsGauge, FillGauge, BlobsGauge, DetailGauge, CountGauge, BorderGauge,
                               ProfileGauge, CropGauge, ValueGauge>;

/// The settings of a kind: its file keys and the tool's options are made from these rows.
template <class Kind>
const std::vector<SettingRow<Kind>>& gauge_rows();

/// Which components of its anchor's pose a gauge follows.
struct Follows {
  bool x = true, y = true, angle = true, scale = false;
  bool operator==(const Follows&) const = default;
};

/// What a gauge does when its shape leaves the picture.
enum class OutsidePicture {
  refuse,  ///< it is not measured
  inside,  ///< it measures what is inside
};

/// One check: what is measured, where, and within which limits.
struct Gauge {
  std::string name;
  /// What it follows: the name of a target or of a gauge with a point; "picture" or "world" for a fixed
  /// frame. Gauges that combine others have none.
  std::string anchor = {};
  Follows follows = {};
  Point2 anchor_at = {};  ///< where a followed gauge's point lay on the reference picture
  Limits limits = {};
  std::string unit = {};  ///< of the limits, as in a reading; empty: limits are taken as they are
  OutsidePicture outside = OutsidePicture::refuse;
  GaugeKind kind = EdgeGauge{};
};

/// Fingerprint of what moves a target's poses, so that its gauges know when it was taught again.
struct TargetStamp {
  std::string pixels, settings;  ///< hashes; empty: not known
  Point2 origin;                 ///< in the target's picture
};
TargetStamp stamp_of(const Target& target);
/// What differs, for people: "its pixels and its origin"; empty when nothing does.
std::string difference(const TargetStamp& then, const TargetStamp& now);

/// A target that gauges follow, look for or count, and its pose on the reference picture.
struct GaugeTarget {
  std::string name;            ///< the target's own
  std::string file;            ///< for the reader of the gauge file
  Similarity2 reference = {};  ///< its pose on the reference picture
  TargetStamp stamp = {};      ///< of the target when its gauges were drawn
  std::optional<Target> target = {};
  std::string changed = {};  ///< what differs from `stamp`; its gauges are stale then and not measured
};

/// Which verdict a reading gets that lies within the guard band of a limit.
enum class UndecidedAs { by_value, bad };

/// The gauges of a set-up, as in their file.
struct GaugeSet {
  std::string reference_picture = {};  ///< the picture that shapes are drawn on
  std::vector<GaugeTarget> targets = {};
  std::vector<Gauge> gauges = {};
  std::string part_rule = "all", picture_rule = "all";  ///< grammar in docs/gauges.md
  double guard =
      0;  ///< standard uncertainties between a value and a limit that are undecided (ISO 14253-1: 2)
  UndecidedAs undecided = UndecidedAs::by_value;

  const Gauge* gauge(const std::string& name) const;         ///< null when there is none
  const GaugeTarget* target(const std::string& name) const;  ///< null when there is none

  /// Throws Error{invalid_argument} for names that are used twice, are not there or form a circle (its
  /// members are named), shapes of no size, limits that are swapped, rules that name what is not there.
  void require_valid() const;
};

/// Gauges in an order in which each comes after those that it needs.
std::vector<size_t> order_of(const GaugeSet& gauges);
/// Names of the gauges that one needs.
std::vector<std::string> needed_by(const Gauge& gauge, const GaugeSet& gauges);

const char* kind_of(const Gauge& gauge);
/// Every kind there is, in the order of the table, with its defaults.
std::vector<GaugeKind> gauge_kinds();
/// Its id and what it measures, for people.
const char* id_of(const GaugeKind& kind);
const char* what_of(const GaugeKind& kind);
/// The settings of a kind by name, in their order.
std::vector<NamedSetting> settings_of(const GaugeKind& kind);
/// Changes one. Throws Error{invalid_argument} for a name that the kind does not have, and says what it has.
void set_setting(GaugeKind& kind, const std::string& name, const SettingValue& value);
/// The kind of that id. Throws Error{invalid_argument} that lists them all.
GaugeKind gauge_kind_named(const std::string& id);

}  // namespace heron
