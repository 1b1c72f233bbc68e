#include "heron/standin/studio_cell.hpp"

#include <fmt/format.h>

#include <cmath>
#include <filesystem>
#include <functional>

#include "heron/files/atomic_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/recording.hpp"
#include "heron/render/studio_views.hpp"

namespace heron {
namespace {

using render::Random;
using render::StudioFilling;
using render::StudioView;
using MakeView = std::function<StudioView(Random&, const StudioFilling&)>;

void make_folder(const std::string& folder) {
  std::error_code error;
  std::filesystem::create_directories(folder, error);
  if (error)
    throw Error(ErrorCode::not_writable, fmt::format("{}: cannot be made: {}", folder, error.message()));
}

StudioSet write_set(const std::string& folder, const std::string& kind, const MakeView& make, Point2 region,
                    int parts, uint64_t seed, int pictures, bool hard) {
  const std::string recording_folder = folder + "/pictures";
  make_folder(recording_folder);
  Random random(seed);
  const StudioView teach = make(random, {.parts = 1, .turned = 0});
  save_picture(folder + "/teach.png", render::picture_of(teach, random));
  StudioSet set{folder, kind, {}};
  const Point2 at = teach.parts[0].pixel;
  const Box box{std::round(at.x - region.x / 2), std::round(at.y - region.y / 2), region.x, region.y};
  set.region = fmt::format("{:g},{:g},{:g},{:g}", box.x, box.y, box.width, box.height);
  if (kind == "border") {  // drawn by hand, so some pixels off
    set.region = "polygon";
    for (const Point2& p : teach.parts[0].corners)
      set.region += fmt::format("{}{:.0f},{:.0f}", set.region == "polygon" ? ":" : ",",
                                p.x + random.uniform(-5, 5), p.y + random.uniform(-5, 5));
    set.options = fmt::format(" --chip-width 14 --least-chip 12 --origin {:g},{:g}", at.x, at.y);
  }
  if (kind == "outline") {
    StudioView empty = teach;
    empty.scene.pieces.clear();
    save_picture(folder + "/empty.png", render::picture_of(empty, random));
  }
  Recording recording{recording_folder, {}};
  // A part's position is the centre of the region that it is taught from.
  const Point2 from_part = kind == "border" ? Point2{} : box.centre() - at;
  std::string known = "picture,x,y,angle\n";
  for (int i = 0; i < pictures; ++i) {
    recording.pictures.push_back(
        {fmt::format("{}-{:02}.png", std::filesystem::path(folder).filename().string(), i + 1)});
    const StudioView view = make(random, {.hard = hard, .parts = parts});
    save_picture(recording.path(recording.pictures.size() - 1), render::picture_of(view, random));
    for (const render::StudioPart& part : view.parts) {
      const bool turns = kind == "outline" || kind == "border";
      const Point2 p = turns ? part.pixel + rotated(from_part, part.angle) : part.pixel;
      known += fmt::format("{},{:.3f},{:.3f}{}\n", recording.pictures.back().file, p.x, p.y,
                           turns ? fmt::format(",{:.3f}", part.angle.degrees()) : "");
    }
  }
  save_recording(recording);
  write_file(folder + "/known.csv", known);
  return set;
}

/// Tiles in glazes that a belt carries past, with the time of every picture.
StudioSet write_belt(const std::string& folder, uint64_t seed, int pictures) {
  const std::string recording_folder = folder + "/pictures";
  make_folder(recording_folder);
  Random random(seed);
  const StudioView teach = render::glazed_tiles(random, {.parts = 1, .turned = 0});
  save_picture(folder + "/teach.png", render::picture_of(teach, random));
  const Point2 at = teach.parts[0].pixel, mm_s = belt_mm_s;
  StudioSet set{folder, "color", fmt::format("{:.0f},{:.0f},28,28", at.x - 14, at.y - 14)};
  set.moves = true;
  Recording recording{recording_folder, {}};
  StudioView view = render::glazed_tiles(random, {.parts = 3});
  std::string known = "picture,x,y\n";
  for (int i = 0; i < std::max(pictures, 2); ++i) {
    // Not quite evenly, as cameras are triggered.
    const double at_s = i == 0 ? 0 : *recording.pictures.back().at_s + random.uniform(0.09, 0.11);
    recording.pictures.push_back({.file = fmt::format("belt-{:02}.png", i + 1), .at_s = at_s});
    StudioView now = view;
    const auto shift = [&](Point2 mm) { return mm + mm_s * at_s; };
    for (render::Piece& piece : now.scene.pieces) {
      const Point2 p = shift(piece.world_from_piece.position());
      piece.world_from_piece.x = p.x, piece.world_from_piece.y = p.y;
    }
    save_picture(recording.path(recording.pictures.size() - 1), render::picture_of(now, random));
    for (const render::StudioPart& part : view.parts) {
      const Point2 origin = now.scene.camera.project({0, 0, 0}),
                   moved = now.scene.camera.project({mm_s.x * at_s, mm_s.y * at_s, 0});
      const Point2 p = part.pixel + moved - origin;
      known += fmt::format("{},{:.3f},{:.3f}\n", recording.pictures.back().file, p.x, p.y);
    }
  }
  save_recording(recording);
  write_file(folder + "/known.csv", known);
  return set;
}

}  // namespace

std::vector<StudioSet> write_studio(const std::string& folder, uint64_t seed, int pictures, bool hard) {
  const auto bore = [](Random& random, const StudioFilling& filling) {
    return render::door_frame(random, filling);
  };
  return {
      write_set(folder + "/glaze", "color", render::glazed_tiles, {28, 28}, 3, seed, pictures, hard),
      write_set(folder + "/blank", "outline", render::leaf_blanks, {220, 160}, 3, seed + 1, pictures, hard),
      write_set(folder + "/bore", "marker", bore, {96, 96}, 1, seed + 2, pictures, hard),
      write_set(folder + "/panel", "border", render::floor_panel, {}, 1, seed + 3, pictures, hard),
      write_belt(folder + "/belt", seed + 4, pictures)};
}

}  // namespace heron
