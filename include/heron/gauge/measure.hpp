#pragma once
#include "heron/gauge/gauge.hpp"
#include "heron/image/picture.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "heron/report/report.hpp"

namespace heron {

class Work;

/// A height map for profile gauges: the picture that parts were found in by their relief.
struct HeightMap {
  ImageView<const float> mm;  ///< NaN where nothing was measured
  double pitch_mm = 0;        ///< millimetres a pixel, the same along x and y
};
/// Of a picture that is one. Nothing of other pictures. Throws Error{bad_file} where its pixels are not
/// square, and Error{invalid_argument} where its pitch is not known.
std::optional<HeightMap> height_map_of(const Picture& picture);

/// How a report is measured.
struct MeasureOptions {
  bool fixed_too =
      false;  ///< measures gauges that follow a part also where they were drawn, as further readings
  std::optional<HeightMap> heights = {};  ///< for profile gauges
};

/// Throws Error{invalid_argument} when the set contradicts itself, or when its limits are in millimetres and
/// there is no mapping, or in pixels and there is one. `measure` does so too; a station asks before its first
/// picture.
void require_measurable(const GaugeSet& gauges, bool in_millimetres);

/// Measures every gauge on every part that its anchor was found as, and judges readings, parts and picture;
/// fills `report.readings` and the verdicts. In millimetres when `frames` has a mapping, else in pixels. A
/// gauge whose anchor was not found, that is stale or that lies outside the picture is not measured and says
/// why. A reading without limits is good once it is measured.
///
/// Throws Error{invalid_argument} when the set contradicts itself (`GaugeSet::require_valid`), when limits
/// are in millimetres and there is no mapping, or in pixels and there is one. Cost: the pixels of the shapes.
void measure(Report& report, const GaugeSet& gauges, const PreparedPicture& prepared,
             const Frames& frames = {}, const MeasureOptions& options = {}, Work* work = nullptr);

/// Judges parts and picture by their readings. `measure` does so; to be called again when a reading was
/// changed, as by an outside reader's text.
void judge(Report& report, const GaugeSet& gauges);

/// A picture prepared for every target of the set: in color where one of them looks at color, a height map
/// as the relief that its first target is found by.
PreparedPicture prepare(const Picture& picture, const GaugeSet& gauges);

/// Finds every target that gauges follow, then measures: all of a picture in one call. Misses are reported
/// for targets that are not found. Limits are those kept with the targets.
Report find_and_measure(const GaugeSet& gauges, const PreparedPicture& prepared, const Frames& frames = {},
                        const MeasureOptions& options = {}, Work* work = nullptr);

/// A target with its pose on the reference picture: of its detections there the one nearest to `near`, which
/// is a point of a gauge that was drawn on it; without one the best. Nothing when it is not found.
std::optional<GaugeTarget> attached(const Target& target, const std::string& file,
                                    const PreparedPicture& reference, std::optional<Point2> near = {});

/// The first point of a gauge's shape as it was drawn; nothing for gauges without a shape.
std::optional<Point2> drawn_at(const GaugeKind& kind);

/// Adds a gauge whose shape was drawn on the reference picture, and learns there what it needs: where a
/// followed gauge's point lies, and the brightness of a reference box. Nothing moves: on the reference
/// picture the shape lies as it was drawn, at whatever angle the part lies there. Returns its readings on the
/// reference picture. Throws Error{invalid_argument} as `GaugeSet::require_valid`; the set is then as it was.
std::vector<Reading> add_gauge(GaugeSet& gauges, Gauge gauge, const PreparedPicture& reference,
                               const Frames& frames = {}, const MeasureOptions& options = {});

/// What became of a target when the gauges of its set were confirmed.
struct ConfirmedTarget {
  std::string name;
  std::string changed;  ///< as `difference`; empty: nothing
  bool found = false;   ///< on the reference picture; else it stays as it was
  double moved_px = 0;  ///< of its reference pose
};

/// Takes the targets as they are now: each is found on the reference picture, nearest to where it was, and
/// its pose and stamp are written anew. Shapes stay where they are on the reference picture.
std::vector<ConfirmedTarget> confirm(GaugeSet& gauges, const PreparedPicture& reference);

}  // namespace heron
