#include <fmt/format.h>

#include <filesystem>
#include <nlohmann/json.hpp>

#include "calibrate.hpp"
#include "heron/base/error.hpp"
#include "heron/calibrate/known_length.hpp"
#include "heron/calibrate/known_points.hpp"
#include "heron/files/csv_file.hpp"
#include "options.hpp"

namespace heron::tool {
namespace {

using Json = nlohmann::ordered_json;

MappingRecord begun(const CalibrateOptions& o, const char* made_from, const char* world) {
  if (o.output.empty()) fail_argument("calibrate: --output MAPPING.toml is missing");
  MappingRecord r;
  std::tie(r.width, r.height) = picture_size(o);
  r.made_from = made_from, r.world = world, r.date = now_text();
  for (const std::string& path : o.pictures)
    r.pictures.push_back(std::filesystem::path(path).filename().string());
  return r;
}

KnownLength length_of(const CalibrateOptions& o) {
  if (o.from.empty() || o.to.empty())
    fail_argument("calibrate: --length needs --from U,V and --to U,V, the pixels of its ends");
  return {.from = parse_point(o.from, "--from"),
          .to = parse_point(o.to, "--to"),
          .length_mm = parse_length(o.length, "--length"),
          .sigma_px = o.sigma_px,
          .sigma_length_mm = o.sigma_length.empty() ? 0 : parse_length(o.sigma_length, "--sigma-length")};
}

std::optional<PlaneModel> model_of(const std::string& name) {
  if (name.empty()) return std::nullopt;
  for (const PlaneModel m : {PlaneModel::similarity, PlaneModel::affine, PlaneModel::homography})
    if (name == name_of(m)) return m;
  fail_argument(fmt::format("--model '{}': it is similarity, affine or homography", name));
}

}  // namespace

int calibrate_length(const CalibrateOptions& o) {
  const KnownLength length = length_of(o);
  MappingRecord r = begun(o, o.distance.empty() ? "length" : "length at a distance", "picture");
  const double relative = std::hypot(std::sqrt(2.0) * length.sigma_px / distance(length.from, length.to),
                                     length.sigma_length_mm / std::max(length.length_mm, 1e-9));
  Json own = Json::object();
  double focal = 0, sigma_focal = 0;
  if (o.distance.empty()) {
    r.mapping = mapping_of_length(length, r.width, r.height);
  } else {
    const CameraMapping camera = camera_of_length_at(
        length, parse_length(o.distance, "--distance"),
        o.sigma_distance.empty() ? 0 : parse_length(o.sigma_distance, "--sigma-distance"), r.width, r.height);
    focal = camera.camera().lens.fx, sigma_focal = std::sqrt(camera.covariance()(0, 0));
    r.mapping = camera;
    own = {{"focal_px", {focal, focal}},
           {"principal_px", {camera.camera().lens.cx, camera.camera().lens.cy}}};
  }
  r.sigma_px = o.sigma_px;
  const double mm = r.mapping.mm_per_pixel({0.5 * (r.width - 1), 0.5 * (r.height - 1)});
  save_with_care(o.output, r, o.replace);
  draw_what_was_asked(o, r);
  if (o.json) {
    Json j{{"kind", r.made_from}, {"mm_per_pixel", mm}};
    j.update(own);
    j["sigma"] = {{"mm_per_pixel", mm * relative}};
    if (focal > 0) j["sigma"]["focal_px"] = {sigma_focal, sigma_focal};
    fmt::print("{}\n", j.dump());
    return 0;
  }
  fmt::print("scale       {:.6f} \u00b1 {:.6f} mm per pixel\n", mm, mm * relative);
  if (focal > 0)
    fmt::print(
        "focal       {:.2f} \u00b1 {:.2f} px; distances follow from apparent widths: heron map {} --from U,V "
        "--to U,V --width {:g}mm\n",
        focal, sigma_focal, o.output, length.length_mm);
  fmt::print(
      "zero        the middle of the picture, X to the right, Y up; the camera is taken to look square at "
      "the plane\nwritten     {}\n",
      o.output);
  return 0;
}

int calibrate_points(const CalibrateOptions& o) {
  MappingRecord base = begun(o, "points", "machine");
  std::vector<KnownPair> pairs;
  for (const auto& row : load_csv(o.points, {"u", "v", "x", "y"}))
    pairs.push_back({{row[0], row[1]}, {row[2], row[3]}});
  if (!o.handed.empty() && o.handed != "right" && o.handed != "left")
    fail_argument(fmt::format("--handed '{}': it is right or left", o.handed));
  KnownPointsOptions options{.model = model_of(o.model), .tolerance_px = o.tolerance_px};
  if (!o.handed.empty()) options.left_handed = o.handed == "left";
  const KnownPointsCalibration c = calibrate_known_points(pairs, base.width, base.height, options);
  MappingRecord r = record_of(c.plane);
  r.width = base.width, r.height = base.height, r.made_from = base.made_from, r.world = base.world,
  r.date = base.date, r.pictures = base.pictures;
  if (c.fits) {
    save_with_care(o.output, r, o.replace);
    draw_what_was_asked(o, r);
  }
  if (o.json) {
    Json j{{"kind", "points"},
           {"fits", c.fits},
           {"points", pairs.size()},
           {"model", name_of(c.model)},
           {"why", c.why},
           {"rms_px", r.rms_px},
           {"sigma_px", r.sigma_px},
           {"largest_mm", r.largest_mm},
           {"left_handed", c.left_handed},
           {"wrong", nullptr}};
    if (c.wrong) j["wrong"] = {{"pair", *c.wrong + 1}, {"off_mm", c.wrong_mm}, {"others_fit", c.others_fit}};
    fmt::print("{}\n", j.dump());
    return c.fits ? 0 : 1;
  }
  fmt::print("model       {}: {}\n", name_of(c.model), c.why);
  if (c.wrong)
    fmt::print("WRONG       pair {} (pixel {:g}, {:g}; {:g}, {:g} mm) lies {:.2f} mm off {}\n", *c.wrong + 1,
               pairs[*c.wrong].pixel.x, pairs[*c.wrong].pixel.y, pairs[*c.wrong].world_mm.x,
               pairs[*c.wrong].world_mm.y, c.wrong_mm,
               c.others_fit
                   ? "where the others put it; measure it again, or leave it out"
                   : "and is the worst; no single pair is to blame. Are pixels and places in the same "
                     "order, and all in millimetres?");
  const bool exact = 2 * c.plane.points.size() == (c.model == PlaneModel::similarity ? 4u
                                                   : c.model == PlaneModel::affine   ? 6u
                                                                                     : 8u);
  fmt::print("residual    rms {:.3f} px, largest {:.4f} mm{}\n", r.rms_px, r.largest_mm,
             exact ? "; no pair to spare, so a wrong one would not show" : "");
  fmt::print("sigma       {} at the middle of the picture\n", sigma_text(sigma_at_middle(r)));
  if (c.left_handed)
    fmt::print(
        "note        the machine's axes are left-handed as the camera sees them (or the picture is "
        "mirrored); angles grow the other way\n");
  if (!c.fits) {
    fmt::print("NOT FITTING to {:g} px (--tolerance-px); nothing was written\n", o.tolerance_px);
    return 1;
  }
  fmt::print("written     {}\n", o.output);
  return 0;
}

}  // namespace heron::tool
