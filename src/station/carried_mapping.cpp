#include "carried_mapping.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "heron/base/error.hpp"

namespace heron {
namespace {

CarriedMapping unusable(std::string why) {
  CarriedMapping carried;
  carried.unusable = std::move(why);
  return carried;
}

void require_within(const MarksMotion& motion, const MarksSettings& settings, const std::string& file) {
  const Angle turn = whole_turn(motion);
  if (motion.distance_mm() <= settings.max_shift_mm && turn <= settings.max_turn) return;
  throw Error(
      ErrorCode::not_determined,
      fmt::format("station: the ring marks of {} have moved by {:.3g} mm and {:.3g} degrees since it was "
                  "made; {:g} mm and {:g} degrees are allowed. See what was moved; if it is as it should "
                  "be, calibrate anew, or raise max_shift_mm and max_turn of [mapping]",
                  file, motion.distance_mm(), turn.degrees(), settings.max_shift_mm,
                  settings.max_turn.degrees()));
}

/// Where a mark may lie with twice the motion that is allowed; nothing where it would be out of the picture.
std::optional<Box> window_of(const RingAnchor& anchor, const MappingRecord& record,
                             const MarksSettings& settings, Point2 middle_mm) {
  const double far = distance(anchor.place_mm.plain(), middle_mm);
  const double reach_mm =
      2 * (settings.max_shift_mm + std::abs(settings.max_turn.radians()) * far) + anchor.diameter_mm;
  try {
    const Point2 at = record.mapping.camera()
                          ? record.mapping.pixel_from_world(anchor.place_mm, anchor.height_mm)
                          : record.mapping.pixel_from_world(anchor.place_mm);
    const double reach = reach_mm / record.mapping.mm_per_pixel(at);
    return Box{at.x - reach, at.y - reach, 2 * reach, 2 * reach};
  } catch (const Error&) {
    return std::nullopt;
  }
}

/// Of the mapping's marks, each once, where they may lie. Otherwise those of the whole picture, which shows
/// whether a mark is covered, far away or there twice.
std::vector<RingSeen> marks_in(const MappingRecord& record, const MarksSettings& settings,
                               const Image<uint8_t>& picture) {
  Point2 middle;
  for (const RingAnchor& a : record.anchors)
    middle = middle + a.place_mm.plain() * (1.0 / static_cast<double>(record.anchors.size()));
  RingSearch near;
  for (const RingAnchor& a : record.anchors)
    if (const auto window = window_of(a, record, settings, middle)) near.windows.push_back(*window);
  if (near.windows.size() == record.anchors.size()) {
    std::vector<RingSeen> seen = find_ring_marks(picture, near);
    const bool each_once =
        std::all_of(record.anchors.begin(), record.anchors.end(), [&](const RingAnchor& a) {
          return std::count_if(seen.begin(), seen.end(),
                               [&](const RingSeen& s) { return s.identity == a.identity; }) == 1;
        });
    if (each_once) return seen;
  }
  return find_ring_marks(picture);
}

}  // namespace

CarriedMapping carry_mapping(const MappingRecord& record, const MarksSettings& settings,
                             const std::string& file, const Image<uint8_t>& picture) {
  const std::vector<RingSeen> seen = marks_in(record, settings, picture);
  const auto is_anchor = [&](const RingSeen& s) {
    return std::any_of(record.anchors.begin(), record.anchors.end(),
                       [&](const RingAnchor& a) { return a.identity == s.identity; });
  };
  if (std::none_of(seen.begin(), seen.end(), is_anchor))
    return unusable(fmt::format("none of the mapping's {} ring marks is seen", record.anchors.size()));
  for (size_t i = 1; i < seen.size(); ++i)
    if (seen[i].identity == seen[i - 1].identity && is_anchor(seen[i]))
      return unusable(fmt::format("ring mark {} is seen twice", seen[i].identity));
  TransferredMapping t;
  try {
    t = transfer_mapping(record.mapping, record.anchors, seen, settings.motion);
  } catch (const Error& error) {
    if (error.code() != ErrorCode::not_determined) throw;
    return unusable(error.what());
  }
  if (!t.fits())
    return unusable(fmt::format(
        "{} does not explain how the ring marks lie ({:.3g} instead of about 1){}",
        settings.motion == Motion::free ? "one motion" : "a motion along the plane", t.reduced_chi_square,
        settings.motion == Motion::free ? ": did one of them come loose?"
                                        : ": did one come loose, or is the motion free?"));
  if (t.ambiguous) return unusable("another tilt explains the ring marks as well; more of them must be seen");
  CarriedMapping carried{t.mapping,
                         {.shift_mm = t.shift_mm,
                          .lift_mm = t.lift_mm,
                          .turn = t.turn,
                          .tilt = t.tilt,
                          .sigma_shift_mm = t.sigma_shift_mm,
                          .sigma_lift_mm = t.sigma_lift_mm,
                          .sigma_turn = t.sigma_turn,
                          .sigma_tilt = t.sigma_tilt,
                          .marks = t.identities}};
  require_within(carried.motion, settings, file);
  return carried;
}

}  // namespace heron
