#pragma once
#include <cmath>
#include <string>

#include "heron/files/mapping_file.hpp"
#include "heron/image/image.hpp"
#include "heron/report/report.hpp"
#include "heron/station/set_up.hpp"

namespace heron {

/// A mapping that its ring marks have moved along, by what one picture shows of them.
struct CarriedMapping {
  Mapping mapping;
  MarksMotion motion;
  std::string unusable = {};  ///< why they do not say where the mapping is; then the others are empty
};

/// By how much it was turned and tilted, together.
inline Angle whole_turn(const MarksMotion& m) {
  return radians(std::hypot(m.turn.radians(), m.tilt.radians()));
}

/// Throws Error{not_determined} when they have moved farther than the settings allow. `file`: the mapping's,
/// for messages.
CarriedMapping carry_mapping(const MappingRecord& record, const MarksSettings& settings,
                             const std::string& file, const Image<uint8_t>& picture);

}  // namespace heron
