#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <nlohmann/json.hpp>

#include "calibrate.hpp"
#include "heron/base/error.hpp"
#include "heron/calibrate/ring_anchor.hpp"
#include "heron/files/picture_file.hpp"
#include "log.hpp"
#include "options.hpp"

namespace heron::tool {
namespace {

using Json = nlohmann::ordered_json;

MappingRecord record_for(const CalibrateOptions& o, const std::string& path, const char* option) {
  if (o.pictures.size() != 1)
    fail_argument(fmt::format("calibrate: {} needs one picture of the ring marks; {} were given", option,
                              o.pictures.size()));
  if (o.output.empty())
    fail_argument(fmt::format("calibrate: {} writes a mapping; say where with --output", option));
  return load_mapping(path);
}

std::vector<RingSeen> rings_in(const std::string& path, const MappingRecord& r) {
  const Image<uint8_t> picture = grey_levels(load_picture(path));
  if (picture.width() != r.width || picture.height() != r.height)
    fail_argument(fmt::format("calibrate: {} has {} x {} pixels, the mapping was made from {} x {}", path,
                              picture.width(), picture.height(), r.width, r.height));
  return find_ring_marks(picture);
}

}  // namespace

std::optional<std::vector<RingSeen>> anchored_rings_in(const std::string& path, const MappingRecord& r) {
  std::vector<RingSeen> rings = rings_in(path, r);
  const bool any = std::any_of(r.anchors.begin(), r.anchors.end(), [&](const RingAnchor& a) {
    return std::any_of(rings.begin(), rings.end(),
                       [&](const RingSeen& s) { return s.identity == a.identity; });
  });
  if (any || r.anchors.empty()) return rings;
  log_error(
      "calibrate: {}: none of the mapping's {} ring marks is seen among {}; are they covered, out of "
      "the picture, or smaller than 18 pixels?",
      path, r.anchors.size(), rings.size());
  return std::nullopt;
}

int anchor_rings(const CalibrateOptions& o) {
  MappingRecord r = record_for(o, o.anchor, "--anchor");
  const std::vector<RingSeen> rings = rings_in(o.pictures[0], r);
  if (rings.empty()) {
    log_error(
        "calibrate: {}: no ring mark is seen; print some with `heron board --kind ring`, at least 18 "
        "pixels across",
        o.pictures[0]);
    return 1;
  }
  r.anchors.clear();
  Json list = Json::array();
  for (const RingSeen& seen : rings) {
    if (!r.anchors.empty() && r.anchors.back().identity == seen.identity)
      fail_argument(
          fmt::format("calibrate: ring {} is seen twice; anchors need different identities", seen.identity));
    r.anchors.push_back(anchor_ring(r.mapping, seen, o.mark_height));
    const RingAnchor& a = r.anchors.back();
    if (o.json)
      list.push_back({{"identity", a.identity},
                      {"x", a.place_mm.x},
                      {"y", a.place_mm.y},
                      {"angle", a.angle.degrees()},
                      {"diameter_mm", a.diameter_mm},
                      {"sigma",
                       {{"x", a.sigma_mm},
                        {"y", a.sigma_mm},
                        {"angle", a.sigma_angle.degrees()},
                        {"diameter_mm", a.sigma_diameter_mm}}}});
    else
      fmt::print(
          "ring {:>2}  X {:.3f} Y {:.3f} mm \u00b1 {:.4f}  angle {:.3f} \u00b1 {:.4f}  diameter {:.3f} "
          "\u00b1 {:.3f} mm\n",
          a.identity, a.place_mm.x, a.place_mm.y, a.sigma_mm, a.angle.degrees(), a.sigma_angle.degrees(),
          a.diameter_mm, a.sigma_diameter_mm);
  }
  save_with_care(o.output, r, o.replace);
  if (o.json) fmt::print("{}\n", Json{{"kind", "anchors"}, {"rings", list}}.dump());
  return 0;
}

int transfer_along_marks(const CalibrateOptions& o) {
  MappingRecord r = record_for(o, o.transfer, "--transfer");
  const Motion motion = o.free_motion ? Motion::free : Motion::along_plane;
  const auto rings = anchored_rings_in(o.pictures[0], r);
  if (!rings) return 1;
  const TransferredMapping c = transfer_mapping(r.mapping, r.anchors, *rings, motion);
  if (o.json) {
    fmt::print("{}\n", Json{{"kind", "transferred"},
                            {"motion", o.free_motion ? "free" : "along plane"},
                            {"shift_mm", {c.shift_mm.x, c.shift_mm.y, c.lift_mm}},
                            {"turn", c.turn.degrees()},
                            {"tilt", c.tilt.degrees()},
                            {"reduced_chi_square", c.reduced_chi_square},
                            {"ambiguous", c.ambiguous},
                            {"rings", c.identities},
                            {"sigma",
                             {{"shift_mm", {c.sigma_shift_mm, c.sigma_shift_mm, c.sigma_lift_mm}},
                              {"turn", c.sigma_turn.degrees()},
                              {"tilt", c.sigma_tilt.degrees()}}}}
                           .dump());
  } else {
    fmt::print("rings       {} of {} anchored ones\n", c.identities.size(), r.anchors.size());
    fmt::print("shift       {:.4f} {:.4f} mm \u00b1 {:.4f} of the marks' middle, in the old world\n",
               c.shift_mm.x, c.shift_mm.y, c.sigma_shift_mm);
    fmt::print("turn        {:.4f} \u00b1 {:.4f} degrees, from +X towards +Y\n", c.turn.degrees(),
               c.sigma_turn.degrees());
    if (o.free_motion)
      fmt::print(
          "lift        {:.4f} \u00b1 {:.4f} mm along the normal\ntilt        {:.4f} \u00b1 {:.4f} degrees\n",
          c.lift_mm, c.sigma_lift_mm, c.tilt.degrees(), c.sigma_tilt.degrees());
    fmt::print(
        "chi-square  {:.2f} per degree of freedom; about 1 if the motion explains the marks, above {:g} "
        "nothing "
        "is written\n",
        c.reduced_chi_square, c.max_reduced_chi_square);
  }
  if (c.ambiguous)
    log_note(
        "calibrate: note: another tilt explains the marks as well; the one nearer to the old plane "
        "was taken. More marks, or a larger one, would tell");
  if (!c.fits()) {
    log_error("calibrate: {} does not explain how the marks lie now{}; nothing was written",
              o.free_motion ? "one motion" : "a motion along the plane",
              o.free_motion ? ": did one of them come loose?"
                            : ": allow --free with a known lens, or calibrate anew");
    return 1;
  }
  r.mapping = c.mapping;
  r.points.clear();  // they lay where the world was
  r.date = now_text();
  r.pictures = {std::filesystem::path(o.pictures[0]).filename().string()};
  save_with_care(o.output, r, o.replace);
  return 0;
}

}  // namespace heron::tool
