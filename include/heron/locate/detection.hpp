#pragma once
#include <optional>
#include <string>
#include <vector>

#include "heron/base/frame.hpp"

namespace heron {

/// One taught edge as it was met at a detection's pose.
struct EdgeMatch {
  Point2 place;        ///< where it should lie, picture coordinates
  Point2 normal;       ///< unit, from dark to bright as taught, turned with the part
  float distance = 0;  ///< of the edge found from `place`, along the normal, in pixels; 0 when not seen
  float weight = 0;    ///< 0 not seen, to 1 seen in place and in direction
};

/// How a part stands on the work plane, and where a robot takes it; both belong to the part, so one mapping
/// serves several kinds of part.
struct PartGeometry {
  double height_mm = 0;      ///< of its taught face above the work plane; below is negative
  PartFromGrasp grasp = {};  ///< in the part's own frame
  double size_mm = 0;        ///< real length of the first of its detections' lengths (a marker's diameter, a
                       ///< region's length, a border's first side): a known camera then places it in space,
                       ///< wherever it stands; 0: it lies on the work plane
};

/// Another pose that explains the picture about as well.
struct OtherPose {
  double x = 0, y = 0;
  Angle angle;
  double scale = 1, score = 0;
};

/// What a figure counts in the picture; reports tell areas in square millimetres too when there is a mapping.
enum class MeasurementUnit { number, square_pixels };

/// A number that a kind of target reports beside the pose; a dot in its name makes a group: "quality.rim".
struct Measurement {
  std::string name;
  double value = 0;
  MeasurementUnit unit = MeasurementUnit::number;
};

/// A point of a found target that has a name: a corner of its border.
struct NamedPoint {
  std::string name;
  Point2 at;           ///< picture coordinates
  Point2 sigma = {};   ///< of x and of y, pixels
  Point2 taught = {};  ///< where it lay at teaching, from the target's origin, pixels
};

/// A length of a found target from one picture point to another; in millimetres through a mapping.
struct MeasuredLength {
  std::string name;  ///< "side1", "diameter"
  Point2 from, to;
  double sigma = 0;  ///< of each end along it, pixels
};

/// A line of the target as it was found, for drawing.
struct Contour {
  std::vector<Point2> points;  ///< picture coordinates
  bool closed = true;
  bool seen = true;  ///< false: where something should be and is not
};

/// A place where a part is not as it was taught.
struct Defect {
  std::string what;  ///< "missing", "extra", "chip"
  double x = 0, y = 0;
  double area = 0;  ///< square pixels
  double depth =
      0;  ///< how far it reaches across the taught outline, pixels; across itself where it does not
  double length = 0;  ///< along the taught line, pixels; 0 where its kind does not tell it
};

/// An ellipse as centre + [[radius + a, b], [b, radius - a]] u for unit vectors u.
struct Ellipse {
  Point2 centre;
  double radius = 0, a = 0, b = 0;
  Point2 at(Angle turn) const {
    const Point2 u = unit(turn);
    return centre + Point2{(radius + a) * u.x + b * u.y, b * u.x + (radius - a) * u.y};
  }
};

/// One target found in one picture.
struct Detection {
  std::string target;
  double x = 0, y = 0;  ///< of the target's origin, picture coordinates
  Angle angle = {};     ///< from the taught pose; grows from +x towards +y; (-180, 180] degrees
  double scale = 1;
  double score = 0;      ///< 0 to 100
  double contrast = 0;   ///< median over the edges seen, grey levels over two pixels; of a color region: how
                         ///< far the colors on both sides of its border lie apart, levels of all channels
  PoseSigma sigma = {};  ///< pixels
  std::vector<std::string> range_end =
      {};  ///< "angle", "scale" when the pose lies within six of its sigmas of that range's end
  std::optional<OtherPose> ambiguous =
      {};                 ///< the part is like itself there, and what is seen does not decide between the two
  bool inverted = false;  ///< dark where it was taught bright
  std::vector<EdgeMatch> edges = {};
  bool has_angle = true;  ///< false where the kind, or this part, has none; `angle` is then 0
  std::vector<Measurement> measurements = {};  ///< what its kind measures besides the pose
  std::vector<Defect> defects = {};            ///< largest first
  std::vector<Contour> contours = {};
  std::vector<NamedPoint> points = {};
  std::vector<MeasuredLength> lengths = {};
  std::optional<Ellipse> rim = {};  ///< of a round one: a mapping finds the middle of the true circle by it,
                                    ///< which is not the ellipse's
  double taught_length =
      0;  ///< pixels of the first span at teaching, where the points are of that time too; 0

  /// The figure of that name, or nothing.
  std::optional<double> measurement(const std::string& name) const {
    for (const Measurement& f : measurements)
      if (f.name == name) return f.value;
    return std::nullopt;
  }
};

/// A limit that turned a candidate away: what it had and what it would have needed.
struct MissReason {
  std::string name;  ///< score, contrast, angle, scale, count, visible, region, outside, inversion; or of its
                     ///< kind: area, diameter, rim, mirrored, shape, deviation, defect, or a color's channel
  double value = 0;
  std::string needed;  ///< as it can be set: "at least 60", "-30..30"
  double sigma = 0;    ///< of `value`; 0 where it is exact
};

/// A candidate that was not returned, and every limit that turned it away. Where edges weaker than the least
/// contrast kept it from its minimum score, "contrast" names a limit that lets it come well to that, and
/// `score` is the score with them.
struct Miss {
  double x = 0, y = 0;
  Angle angle = {};
  double scale = 1, score = 0;
  std::vector<MissReason> reasons = {};
  bool has_angle = true;  ///< as in Detection
};

/// What was seen along a scan: for drawing and for choosing a threshold.
struct ScanProfile {
  std::string name;
  std::vector<double> brightness;  ///< grey levels, a value a pixel of the scan
  std::vector<double> strength;    ///< of the change there, grey levels
  double threshold = 0;
  std::vector<double> edges;  ///< where edges were found, pixels from the start
  std::vector<Point2> path;   ///< of the scan, picture coordinates
};

/// The result of one search.
struct FindResult {
  std::vector<Detection> detections;       ///< best score first
  std::vector<Miss> misses;                ///< best score first, at most eight
  bool complete = true;                    ///< false when the work was stopped: there may be more
  std::vector<ScanProfile> profiles = {};  ///< of kinds that scan
};

}  // namespace heron
