#pragma once

namespace heron::watched {

/// Names of the quantities whose drift a station watches (`Report::watched`, `DriftWarning::quantity`).
inline constexpr const char* score = "score";            ///< median of the parts, 0 to 100
inline constexpr const char* contrast = "contrast";      ///< median of the parts, grey levels
inline constexpr const char* elapsed_ms = "elapsed_ms";  ///< of looking at the picture
inline constexpr const char* brightness = "brightness";  ///< median of a region, grey levels
inline constexpr const char* saturation = "saturation";  ///< and the next five: judge_light
inline constexpr const char* underexposure = "underexposure";
inline constexpr const char* uniformity = "uniformity";
inline constexpr const char* sharpness = "sharpness";
inline constexpr const char* noise = "noise";
inline constexpr const char* glare = "glare";
inline constexpr const char* measured = "measured";              ///< share of a height map, 0 to 1
inline constexpr const char* reference_x = "reference_x";        ///< pixels
inline constexpr const char* reference_y = "reference_y";        ///< pixels
inline constexpr const char* reference_seen = "reference_seen";  ///< 1, or 0

}  // namespace heron::watched
