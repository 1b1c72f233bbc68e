#include "set_up_file.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <filesystem>

#include "gripper_file.hpp"

namespace heron {
namespace {

constexpr int set_up_version = 1;
constexpr int largest_number = 65535;  // a register holds it

std::string folder_of(const std::string& path) {
  const std::filesystem::path parent = std::filesystem::path(path).parent_path();
  return parent.empty() ? "." : parent.string();
}

StationTarget target_of(const TomlTable& t, const std::string& folder) {
  StationTarget target;
  target.file = (std::filesystem::path(folder) / t.text("file")).string();
  if (t.has("angle")) target.angle = t.angle_range("angle", full_turn);
  if (t.has("scale")) target.scale = t.range("scale", {1, 1});
  if (t.has("min_score")) target.min_score = t.number("min_score");
  if (t.has("min_contrast")) target.min_contrast = t.number("min_contrast");
  if (t.has("max_count")) target.max_count = t.whole_or("max_count", "all", FindOptions::all);
  if (t.has("search")) {
    const auto b = t.numbers("search", 4);
    if (b[2] <= 0 || b[3] <= 0) t.refuse("search", "must be [X, Y, W, H] with positive W and H");
    target.search = Box{b[0], b[1], b[2], b[3]};
  }
  target.grasps = grasps_of(t);
  t.done();
  return target;
}

void read_camera(const TomlTable& camera, const std::string& folder, SetUp& setup) {
  const bool recording = camera.has("recording"), address = camera.has("address");
  if (recording && address)
    camera.refuse("recording", "and 'address' are both given; a picture comes from one of them");
  if (!recording && !address && setup.camera.empty())
    camera.refuse("recording",
                  "or 'address' must be given: a recording's folder, or a camera as v4l2:/dev/video0, "
                  "http://... or genicam:NAME");
  if (address) setup.camera = camera.text("address");
  if (recording) setup.camera = "recording:" + path_in(camera, "recording", folder);
  if (camera.has("exposure_ms")) setup.exposure_ms = camera.number("exposure_ms");
  if (camera.has("gain")) setup.gain = camera.number("gain");
  setup.camera_timeout = seconds_in(camera, "timeout_s", setup.camera_timeout);
  camera.done();
}

void read_frame(const TomlTable& frame, SetUp& setup) {
  setup.mount = frame.word("mount", {"fixed", "arm"}) == "fixed" ? Mount::fixed : Mount::arm;
  const std::string robot = setup.mount == Mount::fixed ? "robot" : "flange";
  setup.from_axes = frame.has(robot + "_from_axes");
  const std::string key = robot + (setup.from_axes ? "_from_axes" : "_from_board");
  const auto pose = frame.numbers(key, 3);
  if (!(std::max(std::abs(pose[0]), std::abs(pose[1])) <= text_protocol::largest_value &&
        std::abs(pose[2]) <= 360))
    frame.refuse(key, fmt::format("must be [x, y, angle] within {:g} mm and 360 degrees",
                                  text_protocol::largest_value));
  const Pose2 given{pose[0], pose[1], degrees(pose[2])};
  if (setup.mount == Mount::fixed)
    setup.robot_from_world = RobotFromWorld(given);
  else
    setup.flange_from_world = FlangeFromWorld(given);
  frame.done();
}

HeightSettings heights_of(const TomlTable& t, const std::string& folder) {
  HeightSettings heights;
  const std::string ground = t.text("ground");
  if (ground != "each") heights.ground = (std::filesystem::path(folder) / ground).lexically_normal().string();
  if (t.has("pitch")) {
    const auto pitch = t.numbers("pitch", 2);
    if (!(pitch[0] > 0 && pitch[1] > 0)) t.refuse("pitch", "must be [X, Y], millimetres a pixel above 0");
    heights.pitch_mm = Point2{pitch[0], pitch[1]};
  }
  if (t.has("band")) heights.band_mm = t.range("band", {0, 0});
  const auto number = [&](const char* key, double& value, double from, double to) {
    value = t.number(key, value);
    if (!(value >= from && value <= to)) t.refuse(key, fmt::format("must be from {:g} to {:g}", from, to));
  };
  number("radius_mm", heights.radius_mm, 0.01, 1000);
  number("min_share", heights.min_share, 0, 1);
  number("max_tilt", heights.max_tilt_deg, 0, 90);
  number("table_z", heights.table_z_mm, -text_protocol::largest_value, text_protocol::largest_value);
  t.done();
  return heights;
}

DriftSettings drift_of(const TomlTable& t, const std::string& folder) {
  DriftSettings drift;
  drift.learn = t.whole("learn", drift.learn), drift.memory = t.whole("memory", drift.memory);
  if (drift.learn < 20 || drift.learn > 1000000) t.refuse("learn", "must be from 20 to 1000000 pictures");
  if (drift.memory < 5 || drift.memory > 100000) t.refuse("memory", "must be from 5 to 100000 pictures");
  if (t.has("light")) {
    const auto b = t.numbers("light", 4);
    if (!(b[2] >= 1 && b[3] >= 1)) t.refuse("light", "must be [X, Y, W, H] with W and H of at least 1");
    drift.light = Box{b[0], b[1], b[2], b[3]};
  }
  drift.quality = t.flag("quality", drift.quality);
  if (drift.quality && drift.light && (drift.light->width < 32 || drift.light->height < 32))
    t.refuse("quality", "needs a 'light' of at least 32 x 32 pixels");
  drift.reference = path_in(t, "reference", folder);
  t.done();
  return drift;
}

std::optional<MarksSettings> marks_of(const TomlTable& t) {
  if (!t.flag("marks", false)) {
    for (const char* key : {"marks_every", "motion", "max_shift_mm", "max_turn"})
      if (t.has(key)) t.refuse(key, "needs marks = true");
    return std::nullopt;
  }
  MarksSettings marks;
  if (t.has("marks_every")) marks.every = t.whole("marks_every");
  if (marks.every < 0 || marks.every > 1000000) t.refuse("marks_every", "must be from 0 to 1000000 pictures");
  if (t.has("motion") && t.word("motion", {"along_plane", "free"}) == "free") marks.motion = Motion::free;
  marks.max_shift_mm = t.number("max_shift_mm", marks.max_shift_mm);
  if (!(marks.max_shift_mm > 0 && marks.max_shift_mm <= 10000))
    t.refuse("max_shift_mm", "must be above 0 and at most 10000");
  const double turn = t.number("max_turn", marks.max_turn.degrees());
  if (!(turn > 0 && turn <= 180)) t.refuse("max_turn", "must be above 0 and at most 180 degrees");
  marks.max_turn = degrees(turn);
  return marks;
}

OrderSettings order_of(const TomlTable& t) {
  OrderSettings order;
  const auto& words = part_order_words;
  const std::string by = t.word("by", {std::begin(words), std::end(words)});
  order.by = static_cast<PartOrder>(std::find(std::begin(words), std::end(words), by) - std::begin(words));
  if (order.by == PartOrder::nearest) {
    const auto point = t.numbers("to", 2);
    order.point = {point[0], point[1]};
  }
  if (order.by == PartOrder::along || order.by == PartOrder::rows)
    order.direction = WorldAngle(degrees(t.number("direction")));
  if (order.by == PartOrder::rows) {
    order.row_mm = t.number("row_mm");
    if (!(order.row_mm > 0 && order.row_mm <= text_protocol::largest_value))
      t.refuse("row_mm", fmt::format("must be above 0 and at most {:g}", text_protocol::largest_value));
  }
  t.done();
  return order;
}

/// A camera keeps what the set-up before it set, so a set-up that sets nothing would depend on the one
/// before.
void require_all_set(const TomlTable& file, const std::vector<SetUp>& setups, const char* key,
                     std::optional<double> SetUp::*value) {
  for (const SetUp& a : setups)
    for (const SetUp& b : setups)
      if (a.camera == b.camera && a.*value && !(b.*value))
        file.refuse("setup",
                    fmt::format("{} sets {} of the camera and {} does not, which would then depend on "
                                "what ran before; give it to both, or in [camera] of the station",
                                a.number, key, b.number));
}

}  // namespace

std::chrono::milliseconds seconds_in(const TomlTable& t, const std::string& key,
                                     std::chrono::milliseconds otherwise) {
  const double value = t.number(key, static_cast<double>(otherwise.count()) / 1000);
  if (!(value > 0 && value <= 86400)) t.refuse(key, "must be above 0 and at most 86400 seconds");
  return std::chrono::milliseconds(static_cast<int64_t>(value * 1000));
}

std::string path_in(const TomlTable& t, const std::string& key, const std::string& folder) {
  return t.has(key) ? (std::filesystem::path(folder) / t.text(key)).lexically_normal().string()
                    : std::string();
}

ReadSetUp read_set_up(const TomlTable& file, const std::string& folder, ReadSetUp read) {
  SetUp& setup = read.setup;
  setup.quick = file.flag("quick", setup.quick);
  if (const auto camera = file.optional_table("camera")) read_camera(*camera, folder, setup);
  if (const auto mapping = file.optional_table("mapping")) {
    setup.mapping = (std::filesystem::path(folder) / mapping->text("file")).string();
    setup.marks = marks_of(*mapping);
    mapping->done();
  }
  if (const auto heights = file.optional_table("heights")) setup.heights = heights_of(*heights, folder);
  if (const auto drift = file.optional_table("drift")) setup.drift = drift_of(*drift, folder);
  if (const auto frame = file.optional_table("frame")) read_frame(*frame, setup), read.has_frame = true;
  if (file.has("target")) {
    setup.targets.clear();
    for (const TomlTable& t : file.tables("target")) setup.targets.push_back(target_of(t, folder));
    if (setup.targets.empty()) file.refuse("target", "names no target");
  }
  if (file.has("gauges")) setup.gauges = (std::filesystem::path(folder) / file.text("gauges")).string();
  if (const auto order = file.optional_table("order")) setup.order = order_of(*order);
  if (const auto gripper = file.optional_table("gripper")) setup.gripper = gripper_of(*gripper, folder);
  if (const auto place = file.optional_table("place")) setup.place = place_of(*place, folder);
  return read;
}

void require_whole(const TomlTable& file, const ReadSetUp& read) {
  if (read.setup.camera.empty()) file.table("camera");  // which says that it is missing
  if (read.setup.mapping.empty() && !read.setup.heights) file.table("mapping");
  if (!read.has_frame) file.table("frame");
  if (read.setup.targets.empty()) file.tables("target");
}

namespace {

/// A [[setup]] of a station's file, with what its own file says.
SetUp read_entry(const TomlTable& t, const std::string& folder, ReadSetUp read) {
  read.setup.number = t.whole("number"), read.setup.name = t.text("name");
  if (read.setup.number < 1 || read.setup.number > largest_number)
    t.refuse("number", fmt::format("must be from 1 to {}", largest_number));
  if (read.setup.name.empty()) t.refuse("name", "is empty");
  read.setup.path = (std::filesystem::path(folder) / t.text("file")).lexically_normal().string();
  t.done();
  const TomlTable own = TomlTable::load(read.setup.path, set_up_version);
  const std::string own_folder = folder_of(read.setup.path);  // before the path is moved away
  read = read_set_up(own, own_folder, std::move(read));
  require_whole(own, read);
  own.done();
  return std::move(read.setup);
}

}  // namespace

std::vector<SetUp> read_set_ups(const TomlTable& file, const std::string& folder, const ReadSetUp& base) {
  std::vector<SetUp> setups;
  if (!file.has("setup")) return setups;
  for (const TomlTable& t : file.tables("setup")) {
    SetUp setup = read_entry(t, folder, base);
    for (const SetUp& other : setups) {
      if (other.number == setup.number)
        t.refuse("number", fmt::format("is that of set-up '{}' already", other.name));
      if (other.name == setup.name)
        t.refuse("name", fmt::format("is that of set-up {} already", other.number));
    }
    setups.push_back(std::move(setup));
  }
  if (setups.empty()) file.refuse("setup", "names no set-up");
  require_all_set(file, setups, "exposure_ms", &SetUp::exposure_ms);
  require_all_set(file, setups, "gain", &SetUp::gain);
  return setups;
}

SetUp load_set_up(const std::string& station_path, int number) {
  const TomlTable file = TomlTable::load(station_path, set_up_version);
  const std::string folder = folder_of(station_path);
  const ReadSetUp base = read_set_up(file, folder, {});
  for (const TomlTable& t : file.tables("setup"))
    if (t.whole("number") == number) return read_entry(t, folder, base);
  file.refuse("setup", fmt::format("has no set-up {} any more", number));
}

}  // namespace heron
