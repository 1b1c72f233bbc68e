#include "loaded_set_up.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <filesystem>

#include "heron/files/gauge_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/gauge/measure.hpp"
#include "heron/light/light.hpp"
#include "heron/locate/prepared_picture.hpp"
#include "heron/reader/reader.hpp"
#include "heron/report/watched.hpp"

namespace heron {
namespace {

FindOptions find_options_of(const StationTarget& t, FindOptions options) {
  if (t.angle) options.angle = *t.angle;
  if (t.scale) options.scale = *t.scale;
  if (t.min_score) options.min_score = *t.min_score;
  if (t.min_contrast) options.min_contrast = *t.min_contrast;
  if (t.max_count) options.max_count = *t.max_count;
  if (t.search) options.region = Region::rectangle(*t.search);
  return options;
}

/// What is judged needs 32 x 32 pixels of it in the picture.
void require_inside(const DriftSettings& drift, const std::string& name, int width, int height) {
  const Box& light = *drift.light;
  const double least = drift.quality ? 32 : 1;
  if (std::min<double>(light.x + light.width, width - 0.5) - std::max(light.x, -0.5) >= least &&
      std::min<double>(light.y + light.height, height - 0.5) - std::max(light.y, -0.5) >= least)
    return;
  fail_argument(
      fmt::format("station: light = [{:g}, {:g}, {:g}, {:g}] of [drift] lies outside {}, which has {} x {} "
                  "pixels; at least {:g} x {:g} of it must lie inside",
                  light.x, light.y, light.width, light.height, name, width, height, least, least));
}

bool same(const std::vector<PartFromGrasp>& a, const std::vector<PartFromGrasp>& b) {
  return std::equal(a.begin(), a.end(), b.begin(), b.end(), [](const auto& p, const auto& q) {
    return p.x == q.x && p.y == q.y && p.angle.degrees() == q.angle.degrees();
  });
}

/// Within the level as well: half of the pixels are darker.
double median_of(const std::array<int, 256>& histogram, int count) {
  double below = 0;
  for (int level = 0; level < 256; ++level) {
    const int here = histogram[static_cast<size_t>(level)];
    if (below + here >= 0.5 * count) return level - 0.5 + (0.5 * count - below) / std::max(here, 1);
    below += here;
  }
  return 255;
}

/// Heights as grey levels, from the hundredth part of them to that from above; holes are black.
Image<uint8_t> shades_of(const Image<float>& map) {
  std::vector<float> heights;
  for (int y = 0; y < map.height(); y += 2)
    for (int x = 0; x < map.width(); x += 2)
      if (std::isfinite(map(x, y))) heights.push_back(map(x, y));
  Image<uint8_t> shades(map.width(), map.height());
  if (heights.empty()) return shades;
  const auto at = [&](double share) {
    const auto nth =
        heights.begin() + static_cast<std::ptrdiff_t>(share * static_cast<double>(heights.size() - 1));
    std::nth_element(heights.begin(), nth, heights.end());
    return *nth;
  };
  const float low = at(0.01), span = std::max(at(0.99) - low, 1e-6f);
  for (int y = 0; y < map.height(); ++y)
    for (int x = 0; x < map.width(); ++x)
      if (std::isfinite(map(x, y)))
        shades(x, y) = static_cast<uint8_t>(std::clamp(30 + 220 * (map(x, y) - low) / span, 30.0f, 250.0f));
  return shades;
}

}  // namespace

LoadedSetUp::LoadedSetUp(SetUp setup, std::string hash) : setup_(std::move(setup)), hash_(std::move(hash)) {
  if (!setup_.mapping.empty()) mapping_ = load_mapping(setup_.mapping);
  if (setup_.heights) heights_.emplace(*setup_.heights);
  require_frame();
  if (setup_.marks) require_marks();
  load_targets();
  if (!setup_.gauges.empty()) load_gauge_set();
  load_reference();
  load_nest();
  load_table();
  if (setup_.drift && setup_.drift->quality && heights_)
    fail_argument("station: quality of [drift] judges pictures, and this set-up has [heights]");
  if (setup_.drift && setup_.drift->light && !heights_)
    require_inside(*setup_.drift, "the mapping's picture", mapping_.width, mapping_.height);
  if (setup_.drift && setup_.drift->quality && (mapping_.width < 32 || mapping_.height < 32))
    fail_argument(
        fmt::format("station: quality of [drift] needs pictures of at least 32 x 32 pixels, and the "
                    "mapping's have {} x {}",
                    mapping_.width, mapping_.height));
}

/// A hand-eye mapping speaks of the robot's base or its flange already; a frame beside it would be applied
/// twice.
void LoadedSetUp::require_frame() const {
  if (setup_.from_axes && !mapping_.axes)
    fail_argument(
        fmt::format("station: {} has no user zero and axes, which the frame starts from; set them with "
                    "`heron map --set-zero`, or give {}_from_board",
                    setup_.mapping, setup_.mount == Mount::fixed ? "robot" : "flange"));
  const bool robot = mapping_.world == "robot", flange = mapping_.world == "flange";
  if (!robot && !flange) return;
  if (setup_.mount != (robot ? Mount::fixed : Mount::arm))
    fail_argument(
        fmt::format("station: {} is into the {}, so the camera is mounted \"{}\"; the station file "
                    "says otherwise",
                    setup_.mapping, robot ? "robot's base" : "robot's flange", robot ? "fixed" : "arm"));
  const Pose2 given = robot ? setup_.robot_from_world.plain() : setup_.flange_from_world.plain();
  if (given.x != 0 || given.y != 0 || given.angle.radians() != 0)
    fail_argument(fmt::format("station: {} is into the {} already (hand-eye); set {} = [0, 0, 0]",
                              setup_.mapping, robot ? "robot's base" : "robot's flange",
                              robot ? "robot_from_board" : "flange_from_board"));
}

void LoadedSetUp::require_marks() const {
  if (heights_)
    fail_argument("station: marks of [mapping] are seen in pictures, and this set-up has [heights]");
  if (setup_.mount == Mount::arm)
    fail_argument(
        "station: marks of [mapping] say how a camera that should stand still has moved, and this one moves "
        "with "
        "the arm");
  if (mapping_.anchors.empty())
    fail_argument(fmt::format(
        "station: {} has no ring marks; measure them while it holds, with `heron calibrate --anchor`",
        setup_.mapping));
  if (setup_.marks->motion == Motion::free && !mapping_.mapping.camera())
    fail_argument(fmt::format(
        "station: {} is of a plane alone, which marks move along the plane only; a free motion needs "
        "a calibrated lens",
        setup_.mapping));
}

void LoadedSetUp::load_targets() {
  for (const StationTarget& t : setup_.targets) {
    LoadedTarget loaded = load_target(t.file);
    const auto* pattern = loaded.target.as<PatternTarget>();
    const bool of_heights = pattern && pattern->settings().height_step_mm > 0;
    if (of_heights && !heights_)
      fail_argument(
          fmt::format("station: {} was taught from a height map; give the station [heights], or teach it "
                      "from a picture",
                      t.file));
    if (!of_heights && heights_)
      fail_argument(
          fmt::format("station: {} was taught from a picture, and this set-up looks at height maps; teach it "
                      "from a leveled one (`heron level --square --output`)",
                      t.file));
    const PartGeometry& geometry = loaded.target.geometry();
    if (heights_ && (geometry.height_mm != 0 || geometry.size_mm != 0))
      fail_argument(
          fmt::format("station: {} was taught with a height or a size of its own, and [heights] measures "
                      "them; teach it without",
                      t.file));
    std::vector<PartFromGrasp> grasps = t.grasps;
    if (grasps.empty()) grasps.push_back(geometry.grasp);
    PartGeometry gripped = geometry;
    gripped.grasp = grasps[0];
    const FindOptions options = find_options_of(t, loaded.target.options());
    try {
      require_honoured(options, loaded.target.info());
      loaded.target.with(options);  // which refuses what is out of range, in the target's own unit
    } catch (const Error& error) {
      throw Error(error.code(), fmt::format("station: {}: {}", t.file, error.what()));
    }
    looks_at_color_ = looks_at_color_ || loaded.target.info().looks_at_color;
    if (chooses_grasps() && std::any_of(targets_.begin(), targets_.end(), [&](const Loaded& other) {
          return other.target.name() == loaded.target.name() &&
                 !same(graspable_.at(other.target.name()).grasps, grasps);
        }))
      fail_argument(
          fmt::format("station: two targets are named '{}' and have different grasps, which belong to a "
                      "name; teach one of them with --name",
                      loaded.target.name()));
    if (setup_.gripper && geometry.size_mm != 0)
      fail_argument(fmt::format(
          "station: {} was taught with a size and may stand anywhere in space, and [gripper] looks "
          "at parts on the table; teach it without --size",
          t.file));
    graspable_[loaded.target.name()] = {gripped, grasps, loaded.target.extent(), options.min_score};
    targets_.push_back({loaded.target.with(gripped), options});
  }
}

/// A gauge that follows a target which the station does not find would never be measured.
void LoadedSetUp::load_gauge_set() {
  gauges_ = load_gauges(setup_.gauges);
  require_measurable(*gauges_, true);  // a station has a mapping
  for (const GaugeTarget& t : gauges_->targets) {
    if (!t.changed.empty())
      fail_argument(fmt::format(
          "station: {}: target '{}' was taught again since its gauges were drawn ({} changed); look at "
          "them and confirm with `heron gauge confirm {}`",
          setup_.gauges, t.name, t.changed, setup_.gauges));
    looks_at_color_ = looks_at_color_ || t.target->info().looks_at_color;
  }
  for (const Gauge& g : gauges_->gauges)
    if (gauges_->target(g.anchor) && std::none_of(targets_.begin(), targets_.end(), [&](const Loaded& t) {
          return t.target.name() == g.anchor;
        }))
      fail_argument(
          fmt::format("station: gauge '{}' of {} follows target '{}', which the station does not find",
                      g.name, setup_.gauges, g.anchor));
}

void LoadedSetUp::require_size(const std::string& name, int width, int height) const {
  if (width != mapping_.width || height != mapping_.height)
    fail_argument(
        fmt::format("station: {} has {} x {} pixels, the mapping was made with {} x {}; calibrate anew for "
                    "this picture size",
                    name, width, height, mapping_.width, mapping_.height));
}

void LoadedSetUp::require_size_of(const LoadedSetUp& before) const {
  if (!setup_.mapping.empty() && !before.setup_.mapping.empty())
    require_size("the camera's picture", before.mapping_.width, before.mapping_.height);
}

Frames LoadedSetUp::frames(const Mapping& mapping, const RobotFromWorld& robot_from_world,
                           const RobotFromUser& robot_from_user) const {
  return {.mapping = &mapping,
          .axes = mapping_.axes ? &*mapping_.axes : nullptr,
          .robot_from_world = setup_.from_axes ? nullptr : &robot_from_world,
          .robot_from_user = setup_.from_axes ? &robot_from_user : nullptr};
}

CarriedMapping LoadedSetUp::carry(const Picture& picture) const {
  require_size(picture.name, picture.width(), picture.height());
  return carry_mapping(mapping_, setup_.marks.value(), setup_.mapping, grey_levels(picture));
}

/// Outside a running station nothing has to stop: a replay goes on with its other pictures.
CarriedMapping LoadedSetUp::carry_or_say(const Picture& picture) const try {
  return carry(picture);
} catch (const Error& error) {
  if (error.code() != ErrorCode::not_determined) throw;
  CarriedMapping none;
  none.unusable = error.what();
  return none;
}

void LoadedSetUp::look(Report& report, const Picture& picture, const RobotFromWorld& robot_from_world,
                       Work* stop, const CarriedMapping* carried) const {
  require_size(picture.name, picture.width(), picture.height());
  const Mapping& mapping = carried ? carried->mapping : mapping_.mapping;
  const auto* color = std::get_if<Image<Rgb>>(&picture.pixels);
  const PreparedPicture prepared =
      looks_at_color_ && color ? PreparedPicture(Image<Rgb>(*color)) : PreparedPicture(grey_levels(picture));
  const RobotFromUser robot_from_user(robot_from_world.plain());
  const Frames known = frames(mapping, robot_from_world, robot_from_user);
  std::vector<std::string> misses;
  for (const Loaded& t : targets_) {
    FindResult result = find(t.target, prepared, t.options, explain(), stop);
    report.complete = report.complete && result.complete;
    add_result(report, std::move(result), known, t.target.geometry());
    misses.resize(report.misses.size(), t.target.name());
  }
  order_parts(report.parts, setup_.order);
  if (chooses_grasps()) {
    Grasping grasps(setup_, known, graspable_);
    grasps.choose(report, misses,
                  table_.empty() ? Image<float>()
                                 : heights_of(prepared.level(0), table_, setup_.gripper->table_levels));
    find_nests(report, prepared, known, stop);
    if (nest_) grasps.place(report, nest_->target.geometry());
  }
  if (gauges_) heron::measure(report, *gauges_, prepared, known, {}, stop);
  watch_reference(report, prepared, stop);
}

void LoadedSetUp::look_at_heights(Report& report, const Picture& picture,
                                  const RobotFromWorld& robot_from_world, Work* stop) const {
  const LevelMap map = heights_->level(picture);
  report.unusable = map.unusable;
  if (!map.unusable.empty()) return;
  if (!setup_.mapping.empty()) require_size(picture.name, map.picture.width(), map.picture.height());
  const Mapping mapping = setup_.mapping.empty() ? HeightView::mapping_of(map) : mapping_.mapping;
  const RobotFromUser robot_from_user(robot_from_world.plain());
  const Frames known = frames(mapping, robot_from_world, robot_from_user);
  for (const Loaded& t : targets_) {
    FindResult result = find(t.target, prepare(map.picture, t.target), t.options, explain(), stop);
    report.complete = report.complete && result.complete;
    Report found;
    add_result(found, std::move(result), known, t.target.geometry());
    for (ReportedPart& part : found.parts) {
      if (auto miss = heights_->measure(part, map, mapping, t.target.geometry()))
        report.misses.push_back(std::move(*miss));
      else
        report.parts.push_back(std::move(part));
    }
    std::move(found.misses.begin(), found.misses.end(), std::back_inserter(report.misses));
  }
  order_parts(report.parts, setup_.order);
  if (chooses_grasps()) {
    Grasping grasps(setup_, known, graspable_);
    grasps.choose(report, std::get<Image<float>>(map.picture.pixels),
                  [&](const Detection& d, const PartFromGrasp& grasp) {
                    return heights_->height(d, map, mapping, grasp);
                  });
    if (nest_) {
      find_nests(report, prepare(map.picture, nest_->target), known, stop);
      std::erase_if(report.nests, [&](ReportedPart& nest) {
        return heights_->measure(nest, map, mapping, nest_->target.geometry()).has_value();
      });
      grasps.place(report, nest_->target.geometry());
    }
  }
  if (gauges_)
    heron::measure(report, *gauges_, prepare(map.picture, *gauges_), known,
                   {.heights = HeightMap{std::get<Image<float>>(map.picture.pixels), map.pitch_mm}}, stop);
}

Image<uint8_t> LoadedSetUp::view(const Picture& picture) const {
  if (!heights_) return grey_levels(picture);
  LevelMap level = heights_->level(picture);
  if (!level.unusable.empty()) level.picture = picture;
  return shades_of(std::get<Image<float>>(level.picture.pixels));
}

bool LoadedSetUp::chooses_grasps() const {
  return setup_.gripper || setup_.place ||
         std::any_of(setup_.targets.begin(), setup_.targets.end(),
                     [](const StationTarget& t) { return t.grasps.size() > 1; });
}

void LoadedSetUp::load_nest() {
  if (!setup_.place) return;
  if (std::any_of(setup_.targets.begin(), setup_.targets.end(), [&](const StationTarget& t) {
        return std::filesystem::path(t.file).lexically_normal() == setup_.place->target;
      }))
    fail_argument(
        fmt::format("station: {} is a target and the nest of [place]; a part cannot be put on itself",
                    setup_.place->target));
  LoadedTarget loaded = load_target(setup_.place->target);
  const auto* pattern = loaded.target.as<PatternTarget>();
  if ((pattern && pattern->settings().height_step_mm > 0) != heights_.has_value())
    fail_argument(fmt::format("station: the nest {} was taught from a {}, and this set-up looks at {}",
                              setup_.place->target, heights_ ? "picture" : "height map",
                              heights_ ? "height maps" : "pictures"));
  if (loaded.target.symmetry_order() == 0)
    fail_argument(
        fmt::format("station: the nest {} has no angle, so it does not say which way a part is put down",
                    setup_.place->target));
  looks_at_color_ = looks_at_color_ || loaded.target.info().looks_at_color;
  const FindOptions options = loaded.target.options();
  nest_ = Loaded{std::move(loaded.target), options};
}

void LoadedSetUp::load_table() {
  if (!setup_.gripper || setup_.gripper->table.empty()) return;
  const std::string& path = setup_.gripper->table;
  if (heights_)
    fail_argument("station: table of [gripper] is a picture, and [heights] show what stands about anyway");
  if (setup_.mount == Mount::arm)
    fail_argument(
        "station: table of [gripper] is seen from one place, and this camera moves with the arm; leave it "
        "out");
  if (setup_.marks)
    fail_argument(
        "station: table of [gripper] is seen from one place, and marks of [mapping] are for a camera that "
        "moves; "
        "leave one of them out");
  table_ = grey_levels(load_picture(path));
  require_size(path, table_.width(), table_.height());
}

void LoadedSetUp::find_nests(Report& report, const PreparedPicture& prepared, const Frames& frames,
                             Work* stop) const {
  if (!nest_) return;
  FindResult result = find(nest_->target, prepared, nest_->options, Explain::never, stop);
  report.complete = report.complete && result.complete;
  Report found;
  PartGeometry own = nest_->target.geometry();
  own.grasp = {};
  add_result(found, std::move(result), frames, own);
  // One that could be another pose would turn the part.
  std::erase_if(found.parts, [](const ReportedPart& nest) { return nest.detection.ambiguous.has_value(); });
  report.nests = std::move(found.parts);
}

void LoadedSetUp::load_reference() {
  if (!setup_.drift || setup_.drift->reference.empty()) return;
  if (heights_)
    fail_argument("station: a reference of [drift] is looked for in pictures, and this set-up has [heights]");
  LoadedTarget loaded = load_target(setup_.drift->reference);
  FindOptions options = loaded.target.options();
  options.max_count = 1;
  looks_at_color_ = looks_at_color_ || loaded.target.info().looks_at_color;
  reference_ = Loaded{std::move(loaded.target), options};
}

/// The median of a region's grey levels, or the share of a height map that was measured.
void LoadedSetUp::watch(Report& report, const Picture& picture) const {
  if (!setup_.drift) return;
  const Box everywhere{-0.5, -0.5, static_cast<double>(picture.width()),
                       static_cast<double>(picture.height())};
  const Box box = setup_.drift->light.value_or(everywhere);
  if (setup_.drift->light) require_inside(*setup_.drift, picture.name, picture.width(), picture.height());
  const int left = std::max(0, static_cast<int>(std::ceil(box.x))),
            top = std::max(0, static_cast<int>(std::ceil(box.y))),
            right = static_cast<int>(std::min<double>(picture.width(), std::ceil(box.x + box.width))),
            bottom = static_cast<int>(std::min<double>(picture.height(), std::ceil(box.y + box.height)));
  if (const auto* map = std::get_if<Image<float>>(&picture.pixels)) {
    double measured = 0, count = 0;
    for (int y = top; y < bottom; ++y)
      for (int x = left; x < right; ++x) measured += std::isfinite((*map)(x, y)), ++count;
    report.watched[watched::measured] = measured / count;
    return;
  }
  const Image<uint8_t> grey = grey_levels(picture);
  std::array<int, 256> histogram{};
  int count = 0;
  for (int y = top; y < bottom; ++y)
    for (int x = left; x < right; ++x) ++histogram[grey(x, y)], ++count;
  report.watched[watched::brightness] = median_of(histogram, count);
  if (!setup_.drift->quality) return;
  const LightReport light = judge_light(grey, {.region = Region::rectangle(box)});
  for (const char* name : {watched::saturation, watched::underexposure, watched::uniformity,
                           watched::sharpness, watched::noise, watched::glare})
    if (const double value = light.measure(name).value; !std::isnan(value)) report.watched[name] = value;
}

void LoadedSetUp::watch_reference(Report& report, const PreparedPicture& prepared, Work* stop) const {
  if (!reference_) return;
  const FindResult seen = find(reference_->target, prepared, reference_->options, Explain::never, stop);
  report.complete = report.complete && seen.complete;
  report.watched[watched::reference_seen] = seen.detections.empty() ? 0 : 1;
  if (seen.detections.empty()) return;
  report.watched[watched::reference_x] = seen.detections[0].x;
  report.watched[watched::reference_y] = seen.detections[0].y;
}

Report LoadedSetUp::examine(const Picture& picture, const RobotFromWorld& robot_from_world, Work* stop,
                            const CarriedMapping* carried) const {
  const auto begun = std::chrono::steady_clock::now();
  Report report;
  report.picture = picture.name;
  if (setup_.number > 0) report.setup = {setup_.number, setup_.name};
  std::optional<CarriedMapping> own;
  if (setup_.marks) {
    if (!carried) carried = &own.emplace(carry_or_say(picture));
    report.unusable = carried->unusable;
    if (carried->unusable.empty()) report.marks = carried->motion;
  }
  if (heights_)
    look_at_heights(report, picture, robot_from_world, stop);
  else if (report.unusable.empty())
    look(report, picture, robot_from_world, stop, carried);
  watch(report, picture);
  if (gauges_) read_crops(report, *gauges_, stop);
  report.elapsed_ms =
      std::chrono::duration<double, std::milli>(std::chrono::steady_clock::now() - begun).count();
  return report;
}

}  // namespace heron
