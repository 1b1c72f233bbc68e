#pragma once
#include <string>

namespace heron {

/// Names of the limits that reject a candidate (`MissReason::name`). The value's unit is in the comment; a
/// color's channel rejects by its own name (`channel_words`), a border's side by `measurement::side(n,
/// "off")`.
namespace limit {
inline constexpr const char* score = "score";        ///< 0 to 100
inline constexpr const char* contrast = "contrast";  ///< grey levels
inline constexpr const char* angle = "angle";        ///< degrees
inline constexpr const char* scale = "scale";        ///< times the taught size
inline constexpr const char* count = "count";        ///< parts returned
inline constexpr const char* visible = "visible";    ///< share not covered by another part, 0 to 1
inline constexpr const char* outside = "outside";    ///< share outside the picture; color: pixels on its edge
inline constexpr const char* region = "region";      ///< no value
inline constexpr const char* inversion = "inversion";  ///< -1 inverted, 1 as taught
inline constexpr const char* area = "area";  ///< outline: per cent of the taught; color: square pixels
inline constexpr const char* deviation = "deviation";  ///< pixels from the taught outline
inline constexpr const char* defect = "defect";        ///< square pixels missing or extra
inline constexpr const char* chip = "chip";            ///< square pixels of the largest chip
inline constexpr const char* mirrored = "mirrored";    ///< 1
inline constexpr const char* shape = "shape";          ///< per cent of the taught area
inline constexpr const char* position = "position";    ///< pixels from the taught place
inline constexpr const char* diameter = "diameter";    ///< pixels
inline constexpr const char* rim = "rim";              ///< per cent of the rim that is seen
inline constexpr const char* identity = "identity";    ///< of a ring mark
inline constexpr const char* change = "change";        ///< grey levels, positive when rising along the scan
inline constexpr const char* height = "height";        ///< millimetres above the table
inline constexpr const char* circle = "circle";        ///< no value
inline constexpr const char* opening = "opening";      ///< no value: a corner's lines are parallel
inline constexpr const char* seen = "seen";            ///< per cent of a stripe's rows
inline constexpr const char* white_patch = "white_patch";  ///< grey levels
}  // namespace limit

/// Names of the measurements that kinds report beside the pose (`Measurement::name`).
namespace measurement {
inline constexpr const char* area = "area";                            ///< square pixels
inline constexpr const char* area_mm2 = "area_mm2";                    ///< square millimetres
inline constexpr const char* color_area = "color_area";                ///< square pixels weighted by color
inline constexpr const char* length = "length";                        ///< pixels, of the region's ellipse
inline constexpr const char* width = "width";                          ///< pixels
inline constexpr const char* box_x = "box.x";                          ///< pixels
inline constexpr const char* box_y = "box.y";                          ///< pixels
inline constexpr const char* box_width = "box.width";                  ///< pixels
inline constexpr const char* box_height = "box.height";                ///< pixels
inline constexpr const char* deviation = "deviation";                  ///< pixels from the taught outline
inline constexpr const char* mirrored = "mirrored";                    ///< 1 when mirrored, else 0
inline constexpr const char* diameter = "diameter";                    ///< pixels
inline constexpr const char* diameter_mm = "diameter_mm";              ///< millimetres
inline constexpr const char* radius = "radius";                        ///< pixels
inline constexpr const char* radius_sigma = "radius_sigma";            ///< pixels
inline constexpr const char* scatter = "scatter";                      ///< pixels, of edges about the circle
inline constexpr const char* axis_ratio = "axis_ratio";                ///< short axis over long axis
inline constexpr const char* identity = "identity";                    ///< of a ring mark
inline constexpr const char* height_mm = "height.mm";                  ///< of a height map, above the table
inline constexpr const char* height_sigma = "height.sigma";            ///< millimetres
inline constexpr const char* height_tilt = "height.tilt";              ///< degrees
inline constexpr const char* height_tilt_sigma = "height.tilt_sigma";  ///< degrees
inline constexpr const char* height_share = "height.share";        ///< measured and on one surface, 0 to 1
inline constexpr const char* quality_total = "quality.total";      ///< 0 to 100
inline constexpr const char* quality_rim = "quality.rim";          ///< per cent of the rim that is seen
inline constexpr const char* quality_scatter = "quality.scatter";  ///< pixels
inline constexpr const char* quality_misfit =
    "quality.misfit";  ///< per cent of the contrast that no round thing explains
inline constexpr const char* quality_contrast = "quality.contrast";  ///< times the noise
inline constexpr const char* quality_diameter = "quality.diameter";  ///< per cent of the taught diameter
inline constexpr const char* quality_sigma = "quality.sigma";        ///< pixels
inline constexpr const char* along = "along";            ///< pixels along the scan; degrees of an arc
inline constexpr const char* change = "change";          ///< grey levels, positive when rising
inline constexpr const char* edge_angle = "edge_angle";  ///< degrees from the scan's normal
inline constexpr const char* edge_angle_sigma = "edge_angle_sigma";  ///< degrees
inline constexpr const char* edge_sigma = "edge_sigma";              ///< pixels across the edge
inline constexpr const char* repeats = "repeats";                    ///< edges alike around a ring
inline constexpr const char* opening = "opening";                    ///< degrees between a corner's lines
inline constexpr const char* opening_sigma = "opening_sigma";        ///< degrees
inline constexpr const char* offset = "offset";        ///< pixels from the picture's middle column
inline constexpr const char* curvature = "curvature";  ///< 1 / pixel
inline constexpr const char* seen = "seen";            ///< per cent
inline constexpr const char* branches = "branches";    ///< places where a stripe forks
inline constexpr const char* chips = "chips";          ///< number of chips

inline constexpr const char* quality_group = "quality.";
/// Shift of the n-th edge of a part from its taught place, pixels; n from 1.
inline std::string shift(size_t n) { return "shift." + std::to_string(n); }
/// Measurements of a border's n-th side, n from 1: `seen` per cent, `off` pixels, `turned` degrees, `sigma`
/// pixels.
inline std::string side(size_t n, const char* what) { return "side" + std::to_string(n) + "." + what; }
}  // namespace measurement

/// Names of defects (`Defect::what`).
namespace defect {
inline constexpr const char* missing = "missing";  ///< a piece of the taught part is not there
inline constexpr const char* extra = "extra";      ///< something sticks out of the taught outline
inline constexpr const char* chip = "chip";        ///< a chip along a border
}  // namespace defect

}  // namespace heron
