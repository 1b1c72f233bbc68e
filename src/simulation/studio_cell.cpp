#include "heron/simulation/studio_cell.hpp"

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
    throw Error(ErrorCode::not_writable, ErrorPlace{folder},
                fmt::format("cannot be made: {}", error.message()));
}

/// What the camera sees at a trigger, and when that is, where a set keeps times.
struct Moment {
  StudioView view;
  std::optional<double> at_s;
};
using NextMoment = std::function<Moment(Random&)>;

/// A set of one kind: how it is taught, and what its pictures show.
struct SetPlan {
  std::string folder, kind;
  Point2 region;  ///< size of what is taught, pixels
  uint64_t seed = 0;
  int pictures = 0;
  MakeView teach;
  NextMoment next;
};

StudioSet write_set(const SetPlan& plan) {
  const std::string &folder = plan.folder, &kind = plan.kind, recording_folder = folder + "/pictures";
  make_folder(recording_folder);
  Random random(plan.seed);
  const StudioView teach = plan.teach(random, {.parts = 1, .turned = 0});
  save_picture(folder + "/teach.png", render::picture_of(teach, random));
  StudioSet set{folder, kind, {}};
  const Point2 at = teach.parts[0].pixel;
  const Box box{std::round(at.x - plan.region.x / 2), std::round(at.y - plan.region.y / 2), plan.region.x,
                plan.region.y};
  set.region = fmt::format("{:g},{:g},{:g},{:g}", box.x, box.y, box.width, box.height);
  if (kind == "border") {  // drawn by hand, so some pixels off
    set.region = "polygon";
    for (const Point2& p : teach.parts[0].corners)
      set.region += fmt::format("{}{:.0f},{:.0f}", set.region == "polygon" ? ":" : ",",
                                p.x + random.uniform(-5, 5), p.y + random.uniform(-5, 5));
    set.options = fmt::format(" --chip-width 14 --min-chip 12 --origin {:g},{:g}", at.x, at.y);
  }
  if (kind == "edge") {  // two bands over the upper side, one over the left
    const auto band = [&](double x, double y, int turned) {
      return fmt::format("{:.0f},{:.0f},60,120,{}", at.x + x, at.y + y, turned);
    };
    set.options = fmt::format(" --band {} --second {} --third {} --origin {:g},{:g}", band(-220, 30, 0),
                              band(-80, -160, 90), band(120, -160, 90), at.x, at.y);
  }
  if (kind == "stripe") set.options = fmt::format(" --top 0 --bottom 1023 --ahead {:g}", at.y);
  if (kind == "outline") {
    StudioView empty = teach;
    empty.scene.pieces.clear();
    save_picture(folder + "/empty.png", render::picture_of(empty, random));
  }
  Recording recording{recording_folder, {}};
  // A part's position is the centre of the region that it is taught from.
  const Point2 from_part = kind == "outline" ? box.centre() - at : Point2{};
  const bool turns = kind != "color" && kind != "marker";
  std::string known = turns ? "picture,x,y,angle\n" : "picture,x,y\n";
  for (int i = 0; i < plan.pictures; ++i) {
    const Moment now = plan.next(random);
    recording.pictures.push_back(
        {.file = fmt::format("{}-{:02}.png", std::filesystem::path(folder).filename().string(), i + 1),
         .at_s = now.at_s});
    save_picture(recording.path(recording.pictures.size() - 1), render::picture_of(now.view, random));
    for (const render::StudioPart& part : now.view.parts) {
      const Point2 p = turns ? part.pixel + rotated(from_part, part.angle) : part.pixel;
      known += fmt::format("{},{:.3f},{:.3f}{}\n", recording.pictures.back().file, p.x, p.y,
                           turns ? fmt::format(",{:.3f}", part.angle.degrees()) : "");
    }
    set.moves = set.moves || now.at_s;
  }
  save_recording(recording);
  write_file(folder + "/known.csv", known);
  return set;
}

/// Parts that lie anew in each picture.
NextMoment anew(MakeView make, int parts, bool hard) {
  return [make = std::move(make), parts, hard](Random& random) {
    return Moment{make(random, {.hard = hard, .parts = parts}), std::nullopt};
  };
}

/// Tiles in glazes that a belt carries past, with the time of every picture.
NextMoment on_a_belt() {
  return [begun = std::optional<StudioView>(), at_s = 0.0](Random& random) mutable {
    // Not quite evenly, as cameras are triggered.
    if (begun)
      at_s += random.uniform(0.09, 0.11);
    else
      begun = render::glazed_tiles(random, {.parts = 3});
    StudioView now = *begun;
    const Point2 mm = belt_mm_s * at_s;
    for (render::Piece& piece : now.scene.pieces)
      piece.world_from_piece.x += mm.x, piece.world_from_piece.y += mm.y;
    const Point2 pixels = now.scene.camera.project({mm.x, mm.y, 0}) - now.scene.camera.project({0, 0, 0});
    for (render::StudioPart& part : now.parts) part.pixel += pixels;
    return Moment{std::move(now), at_s};
  };
}

}  // namespace

std::vector<StudioSet> write_studio(const std::string& folder, uint64_t seed, int pictures, bool hard) {
  const auto bore = [](Random& random, const StudioFilling& filling) {
    return render::door_frame(random, filling);
  };
  const auto set = [&](const char* name, const char* kind, const MakeView& make, Point2 region,
                       uint64_t after, NextMoment next) {
    return write_set({folder + "/" + name, kind, region, seed + after, pictures, make, std::move(next)});
  };
  std::vector<StudioSet> sets;
  sets.push_back(
      set("glaze", "color", render::glazed_tiles, {28, 28}, 0, anew(render::glazed_tiles, 3, hard)));
  sets.push_back(
      set("blank", "outline", render::leaf_blanks, {220, 160}, 1, anew(render::leaf_blanks, 3, hard)));
  sets.push_back(set("bore", "marker", bore, {96, 96}, 2, anew(bore, 1, hard)));
  sets.push_back(set("panel", "border", render::floor_panel, {}, 3, anew(render::floor_panel, 1, hard)));
  const auto plate = [](Random& random, const StudioFilling& f) { return render::gauge_plate(random, f); };
  const auto floor = [](Random& random, const StudioFilling& f) { return render::floor_stripe(random, f); };
  sets.push_back(set("plate", "edge", plate, {520, 400}, 5, anew(plate, 1, hard)));
  sets.push_back(set("floor", "stripe", floor, {200, 200}, 6, anew(floor, 1, hard)));
  pictures = std::max(pictures, 2);  // a velocity needs two
  sets.push_back(set("belt", "color", render::glazed_tiles, {28, 28}, 4, on_a_belt()));
  return sets;
}

}  // namespace heron
