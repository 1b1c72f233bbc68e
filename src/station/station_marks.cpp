// How a station's mappings follow their ring marks: docs/marks.md.
#include "station_marks.hpp"

#include <fmt/format.h>

#include <cmath>
#include <utility>

namespace heron {

/// The mapping as the ring marks say: of the picture in hand, or, where not every picture is asked, of an
/// earlier one.
const CarriedMapping* Station::carried() {
  const auto& settings = current_->settings().marks;
  if (!settings) return nullptr;
  const int number = current_->settings().number;
  Marks& marks = marks_[number];
  const bool due = marks.setup != current_ || marks.selections != selections_ ||
                   !marks.last.unusable.empty() ||
                   (settings->every > 0 && ++marks.pictures >= settings->every);
  if (!due) {
    marks.last.motion.earlier = true;
    return &marks.last;
  }
  if (marks.setup != current_) marks.warned = MarksWarned::nothing;
  marks.setup = current_, marks.selections = selections_, marks.pictures = 0;
  marks.last = current_->carry(picture_);
  warn_of_marks(number);
  return &marks.last;
}

/// Once for each state, and again when it becomes worse.
void Station::warn_of_marks(int number) {
  Marks& marks = marks_.at(number);
  const MarksSettings& settings = *current_->settings().marks;
  const MarksMotion& m = marks.last.motion;
  constexpr double sigmas = 4;
  MarksWarned now = MarksWarned::nothing;
  if (!marks.last.unusable.empty())
    now = MarksWarned::unusable;
  else if (m.distance_mm() > settings.max_shift_mm / 2 || whole_turn(m) * 2.0 > settings.max_turn)
    now = MarksWarned::half_the_limit;
  else if (std::hypot(m.shift_mm.x, m.shift_mm.y) > sigmas * m.sigma_shift_mm ||
           std::abs(m.lift_mm) > sigmas * m.sigma_lift_mm || abs(m.turn) > m.sigma_turn * sigmas ||
           abs(m.tilt) > m.sigma_tilt * sigmas)
    now = MarksWarned::moved;
  const MarksWarned before = std::exchange(marks.warned, now);
  if (!file_.link.warn || (now <= before && before != MarksWarned::unusable) || now == before) return;
  if (now == MarksWarned::unusable)
    file_.link.warn(fmt::format("{}; nothing is sent of pictures until that is mended", marks.last.unusable));
  else if (before == MarksWarned::unusable)
    file_.link.warn("the ring marks say again where the mapping is");
  if (now == MarksWarned::moved || now == MarksWarned::half_the_limit)
    file_.link.warn(
        fmt::format("the ring marks have moved by {:.3g} mm and {:.3g} degrees since {} was made, and "
                    "the places move along{}",
                    m.distance_mm(), whole_turn(m).degrees(), current_->settings().mapping,
                    now == MarksWarned::moved ? "" : "; that is more than half of what is allowed"));
}

}  // namespace heron
