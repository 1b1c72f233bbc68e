#pragma once
#include "heron/station/station.hpp"
#include "loaded_set_up.hpp"

namespace heron {

enum class MarksWarned { nothing, moved, half_the_limit, unusable };

/// What the ring marks said last, and by which set-up.
struct Station::Marks {
  CarriedMapping last = {};
  std::shared_ptr<const LoadedSetUp> setup = {};
  int selections = 0;  ///< of the station, when they were looked at
  int pictures = 0;    ///< since then
  MarksWarned warned = MarksWarned::nothing;
};

}  // namespace heron
