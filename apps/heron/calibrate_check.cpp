#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "calibrate.hpp"
#include "heron/base/error.hpp"
#include "heron/calibrate/check.hpp"
#include "heron/calibrate/ring_anchor.hpp"
#include "heron/draw/overlay.hpp"
#include "heron/files/picture_file.hpp"

namespace heron::tool {
namespace {

using Json = nlohmann::ordered_json;

const char* word_of(MappingState s) {
  return s == MappingState::holds ? "holds" : s == MappingState::moved ? "moved" : "changed";
}

const char* advice_for(MappingState s, bool rings) {
  if (rings && s == MappingState::moved)
    return "the table, or the camera along the plane, was moved: `heron calibrate --transfer` takes the "
           "mapping "
           "along";
  if (rings && s == MappingState::changed)
    return "calibrate anew, or `--transfer --free` with a known lens: the marks are no longer seen as from "
           "there, so the "
           "camera's height, tilt or focus is another, or a mark came loose";
  if (rings) return "nothing: the marks are seen where they lay";
  switch (s) {
    case MappingState::holds:
      return "nothing: the board is measured where it lay";
    case MappingState::moved:
      return "if the board was not moved, the camera was, along the plane: calibrate the plane anew (and "
             "touch the frame again). If the board was laid down anew, all is well: lengths measure right";
    default:
      return "calibrate anew: lengths no longer measure right, so the camera's height, tilt, focus or zoom "
             "is another, or the board is not flat on the plane";
  }
}

std::optional<MappingCheck> check_with_board(const CalibrateOptions& o, const MappingRecord& r) {
  if (!r.board || r.world != "board")
    fail_argument(
        fmt::format("{}: was made from {}, whose world is no board's, and has no ring marks; --check holds a "
                    "picture of a board against a mapping made from that board, or of marks after --anchor",
                    o.check, r.made_from));
  int width = r.width, height = r.height;
  const auto view = view_of(o.pictures[0], *r.board, width, height, nullptr);
  if (!view) return std::nullopt;
  return check_mapping(r.mapping, r.sigma_px, *r.board, view->points, view->dot_radius_px);
}

std::optional<MappingCheck> check_with_rings(const CalibrateOptions& o, const MappingRecord& r) {
  const auto rings = anchored_rings_in(o.pictures[0], r);
  if (!rings) return std::nullopt;
  return check_mapping(r.mapping, r.anchors, *rings);
}

}  // namespace

int check_calibration(const CalibrateOptions& o) {
  if (o.pictures.size() != 1)
    fail_argument(
        fmt::format("calibrate: --check needs one new picture of the board or the ring marks; {} were given",
                    o.pictures.size()));
  const MappingRecord r = load_mapping(o.check);
  const std::optional<MappingCheck> checked =
      r.anchors.empty() ? check_with_board(o, r) : check_with_rings(o, r);
  if (!checked) return 1;
  const MappingCheck& c = *checked;
  const char* thing = r.anchors.empty() ? "board's middle" : "ring marks' middle";
  if (!o.picture.empty())
    save_picture(o.picture, draw_residuals(grey_levels(load_picture(o.pictures[0])), c.points, r.mapping));
  if (o.json) {
    const Json j{
        {"kind", "check"},
        {"state", word_of(c.state)},
        {"shift_mm", {c.shift_mm.x, c.shift_mm.y}},
        {"turn", c.turn.degrees()},
        {"scale", c.scale},
        {"shape_px", c.shape_px},
        {"expected_px", c.expected_px},
        {"sigma",
         {{"shift_mm", c.sigma_shift_mm}, {"turn", c.sigma_turn.degrees()}, {"scale", c.sigma_scale}}},
        {"advice", advice_for(c.state, !r.anchors.empty())}};
    fmt::print("{}\n", j.dump());
  } else {
    fmt::print("shift       {:.4f} {:.4f} mm \u00b1 {:.4f} mm of the {}\n", c.shift_mm.x, c.shift_mm.y,
               c.sigma_shift_mm, thing);
    fmt::print("turn        {:.4f} \u00b1 {:.4f} degrees, from +X towards +Y\n", c.turn.degrees(),
               c.sigma_turn.degrees());
    fmt::print("lengths     100 mm read as {:.4f} \u00b1 {:.4f} mm\n", 100 * c.scale, 100 * c.sigma_scale);
    fmt::print("shape       {:.4f} px left beside shift and turn, noise alone leaves {:.4f} px\n", c.shape_px,
               c.expected_px);
    fmt::print("verdict     {}\nto do       {}\n",
               c.state == MappingState::holds   ? "the mapping holds"
               : c.state == MappingState::moved ? "MOVED"
                                                : "CHANGED",
               advice_for(c.state, !r.anchors.empty()));
  }
  return c.state == MappingState::holds ? 0 : 1;
}

}  // namespace heron::tool
