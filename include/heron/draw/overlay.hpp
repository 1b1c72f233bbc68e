#pragma once
#include <optional>

#include "heron/calibrate/plane.hpp"
#include "heron/geometry/mapping.hpp"
#include "heron/image/image.hpp"
#include "heron/image/region.hpp"
#include "heron/light/light.hpp"
#include "heron/locate/target.hpp"
#include "heron/locate/teaching.hpp"
#include "heron/report/report.hpp"

namespace heron {

/// The picture with everything that a report contains. Edges seen in place: a solid line, thinner the worse
/// they match; taught edges not seen: small crosses. The part's x axis: a solid arrow, its y axis: a dashed
/// one; name and score in a box. Outlines and rims: a solid line where they were seen, dotted where not.
/// Defects: rings with words. Scans: an arrow from their zero, and a chart of strength, threshold, brightness
/// and the edges found. Misses: a dashed ring with the limit that turned them away. The search region: a
/// dashed outline. Every line has a dark rim, so it reads on bright and dark pictures, and no meaning hangs
/// on color alone. Words are enlarged where the picture is wider than it will be shown.
Image<Rgb> draw_report(const ImageView<const uint8_t>& picture, const Report& report,
                       const Box* search_region = nullptr, int shown_width = 1600);
Image<Rgb> draw_report(const ImageView<const Rgb>& picture, const Report& report,
                       const Box* search_region = nullptr, int shown_width = 1600);

/// Board points with their residuals as arrows, enlarged so that they can be seen; the factor is written on
/// the picture.
/// `mapping` shows where X and Y lie.
Image<Rgb> draw_residuals(const ImageView<const uint8_t>& picture, const std::vector<MappedPoint>& points,
                          const Mapping& mapping);

/// A height map in colors from dark (low) to bright (high), with a scale; holes are striped. The range is
/// where the middle 98 % of the heights lie unless given. `pitch_mm` draws a bar of known length; 0 leaves it
/// out. `intensity`, the picture that belongs to the map, shades the colors, so that print and glaze show as
/// well; throws Error{invalid_argument} when it has another size.
Image<Rgb> draw_heights(const ImageView<const float>& map, const std::optional<Range<double>>& range_mm = {},
                        Point2 pitch_mm = {}, const ImageView<const uint8_t>* intensity = nullptr);

/// A light report over its picture: clipped pixels striped one way, black ones the other, glare ringed, the
/// verdicts as words, and the histogram in a corner.
Image<Rgb> draw_light(const ImageView<const uint8_t>& picture, const LightReport& report,
                      const Region& region = {});

/// The taught pixels, enlarged, with what was taught of them (a pattern's edges, a silhouette, a rim, the
/// pixels of a color) and the origin; pixels that do not count are hatched. `report` is a pattern's.
Image<Rgb> draw_target(const Target& target, const TeachingReport* report = nullptr);

}  // namespace heron
