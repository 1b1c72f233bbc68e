#pragma once
#include "heron/locate/edge.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "locate/scan/scan_line.hpp"

namespace heron {

/// The bands of the settings in their order, or their arc.
std::vector<Scan> scans_of(const EdgeSettings& settings);

/// The lines of the bands as they were taught.
std::vector<LineEdge> taught_lines(const EdgeSettings& settings);

/// Throws Error{invalid_argument} unless each scan lies in a picture of that size.
void require_inside(const std::vector<Scan>& scans, int width, int height, const std::string& name);

/// Grey levels from side to side that an edge needs, where a profile is the mean of `lanes` lanes.
double edge_threshold(const EdgeSettings& settings, const PreparedPicture& prepared, int lanes);

/// At the end of a scan half a step may fit to noise: its place is then not known to a pixel.
inline bool is_guess(const ScanEdge& edge) { return edge.sigma > 1; }

/// Whether the change of an edge is one that is asked for.
bool is_meant(const ScanEdge& edge, EdgeChange change);

/// The edges of `all` that order and every ask for.
std::vector<ScanEdge> ordered(std::vector<ScanEdge> all, EdgeOrder order, int every);

/// Whether edges that are too weak are fitted too, to be listed.
enum class Others { list, leave_out };

/// The edges of a scan's profile, in steps along it, without their lines; the profile has no name yet.
struct ScannedProfile {
  ScanProfile profile;
  std::vector<ScanEdge> meant;   ///< in the order of the scan
  std::vector<ScanEdge> others;  ///< rejected: too weak or of the other sense; strongest first
};
ScannedProfile scanned_profile(const PreparedPicture& prepared, const Scan& scan,
                               const std::vector<Strip>& strips, const EdgeSettings& settings, Others others);

/// What a scan met, all of it and what of it is meant.
struct Scanned {
  ScanProfile profile;
  std::vector<LineEdge> meant;
  std::vector<ScanEdge> others;  ///< rejected: too weak or of the other sense; strongest first
};

Scanned scanned(const PreparedPicture& prepared, const Scan& scan, const EdgeSettings& settings,
                const char* name, Others others = Others::list);

/// Adds a miss for every rejected edge, with the limits that rejected it.
void tell_others(const Scan& scan, const Scanned& scanned, EdgeChange change, FindResult& result);

/// The edge's line across its band.
Contour trace_of(const Scan& scan, const LineEdge& line);

}  // namespace heron
