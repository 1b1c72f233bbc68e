#pragma once
#include "heron/locate/detection.hpp"
#include "heron/locate/find_options.hpp"
#include "heron/locate/setting.hpp"
#include "heron/locate/taught.hpp"

namespace heron {

class PreparedPicture;
class Work;

/// Which change of brightness along a scan is an edge.
enum class EdgeChange {
  learn,    ///< as the taught band shows it
  rising,   ///< dark to bright along the scan
  falling,  ///< bright to dark
  either
};

/// Which edges of a band are meant.
enum class EdgeOrder { first, last, strongest, all };

/// What the edges that the scans meet are put together to.
enum class EdgeShape {
  edge,    ///< each is found by itself; several bands locate a part by one edge each
  corner,  ///< where the straight lines of two bands meet
  circle   ///< the circle that an arc's scans meet, from its inner radius to its outer one
};

/// How an edge is taught. Bands and arcs stand still in the picture; coordinates are those of the camera's
/// whole picture. A band is x, y of its centre, its length along the scan, its width across, and the scan's
/// direction in degrees. An arc is x, y of its centre, inner and outer radius, the direction where it starts
/// in degrees, and how far it turns (picture sense, negative the other way round; 360: a ring).
struct EdgeSettings {
  std::string name = "edge";
  std::optional<Point2> origin = {};  ///< of the part that the edges belong to; the first edge unless given
  std::vector<double> band = {};  ///< the region's box, along the side with the stronger edge, while neither
                                  ///< band nor arc is given
  std::vector<double> second = {}, third = {};  ///< further bands: two edges locate a part that shifts, a
                                                ///< third its small turn as well
  std::vector<double> arc = {};
  EdgeShape fit = EdgeShape::edge;
  EdgeChange change = EdgeChange::learn;
  EdgeOrder order = EdgeOrder::strongest;  ///< all: every edge is a detection; not with several bands
  int every = 1;                           ///< keeps every N-th edge, from the first
  double threshold = 0;                    ///< grey levels from one side to the other; 0 follows the noise
  std::vector<double> taught = {};  ///< where the edges lay at teaching: pixels along each scan from its
                                    ///< start; of a circle its radius
  std::vector<double> slopes = {};  ///< of several bands' lines at teaching, pixels along the scan a pixel
                                    ///< across
  std::vector<double> taught_sigmas = {}, slope_sigmas = {};  ///< standard uncertainty of both
  std::vector<double> corner = {};  ///< of this file's pixels in the camera's picture
  FindOptions options = {};
  PartGeometry geometry = {};
};

/// Edges met along bands or around an arc.
class EdgeTarget : public TaughtKind<EdgeTarget, EdgeSettings> {
 public:
  static const KindInfo& info();
  static const std::vector<SettingRow<EdgeSettings>>& rows();
  /// Throws Error{invalid_argument} for a band of no length, one outside the picture or without an edge, and
  /// for bands whose edges do not fix a position together.
  static EdgeTarget taught_from(const TeachingPicture& picture, EdgeSettings settings);
  EdgeTarget(TaughtPicture taught, EdgeSettings settings);

  std::vector<Measurement> facts() const;
  std::vector<Contour> contours() const;
  Box extent() const { return {-8, -8, 16, 16}; }
  int symmetry_order() const { return settings_.third.empty() && settings_.fit != EdgeShape::corner ? 0 : 1; }
};

/// Scans each band for edges: the mean across it as a profile, extrema of its smoothed slope, a blurred step
/// fitted to the profile around each, and a robust line through what strips of the band meet. A straight
/// band's detection lies on the band's middle line; its edge is known along the scan alone, so the sigma of a
/// direction that it does not fix is infinite. The score is the share of the strips that see the edge.
///
/// Measurements: "along" (pixels from the scan's start; degrees from the arc's start), "change" (after less
/// before, grey levels), "edge_angle" (of the edge's line against the right angle to its scan, degrees),
/// "edge_sigma" (along the scan, pixels); on a ring "repeats", the number of equal turns after which what the
/// ring shows comes again (1: it does not). With several bands: one detection of the part, and "shift" of
/// each edge against teaching; the taught edges are moved as lines, so bands need not lie square on them, and
/// how well they were known at teaching is in the sigmas. An edge that lies where a ring starts is counted
/// once.
///
/// A corner lies where its lines meet, however far along them that is, with the sigma that this costs; its
/// angle is by both lines; figures: "opening" between them and "opening_sigma", degrees. A circle surrounds
/// the arc's centre; its figures: "radius", "radius_sigma", "diameter", "scatter" (of the sectors that see
/// it, pixels), "change" (outside less inside); the score is the share of the sectors that see it, within a
/// pixel at most and not softer than 2.5 pixels. Bands say where to look; a `limits.region` that is given all
/// the same must hold the position. `profiles` hold what was scanned; of a circle, about its own centre.
/// Throws Error{invalid_argument} when a band lies outside the picture. Cost: the pixels of the bands.
FindResult find(const EdgeTarget& target, const PreparedPicture& prepared, const FindOptions& options,
                Explain explain = Explain::always, Work* work = nullptr);

}  // namespace heron
