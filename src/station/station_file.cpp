#include "heron/station/station_file.hpp"

#include <filesystem>

#include "heron/files/toml_file.hpp"

namespace heron {
namespace {

constexpr int version = 1;

StationTarget target_of(const TomlTable& t, const std::string& folder) {
  StationTarget target;
  target.file = (std::filesystem::path(folder) / t.text("file")).string();
  if (t.has("angle")) target.angle = t.angle_range("angle", full_turn);
  if (t.has("scale")) target.scale = t.range("scale", {1, 1});
  if (t.has("least_score")) target.least_score = t.number("least_score");
  if (t.has("least_contrast")) target.least_contrast = t.number("least_contrast");
  if (t.has("count")) target.count = t.whole("count");
  if (t.has("search")) {
    const auto b = t.numbers("search", 4);
    if (b[2] <= 0 || b[3] <= 0) t.refuse("search", "must be [X, Y, W, H] with positive W and H");
    target.search = Box{b[0], b[1], b[2], b[3]};
  }
  t.done();
  return target;
}

LineSocket::Duration seconds(const TomlTable& t, const std::string& key, LineSocket::Duration otherwise) {
  const double value = t.number(key, static_cast<double>(otherwise.count()) / 1000);
  if (!(value > 0 && value <= 86400)) t.refuse(key, "must be above 0 and at most 86400 seconds");
  return LineSocket::Duration(static_cast<int64_t>(value * 1000));
}

void read_link(const TomlTable& t, StationFile& station) {
  t.word("protocol", {"text"});
  const bool connects = t.has("connect"), listens = t.has("listen");
  if (connects == listens)
    t.refuse(connects ? "listen" : "protocol",
             "needs either 'connect' or 'listen' beside it, with an address such as \"127.0.0.1:5017\"");
  const std::string key = listens ? "listen" : "connect";
  try {
    station.link.address = Address::parse(t.text(key));
  } catch (const Error& error) {
    t.refuse(key, error.what());
  }
  if (connects && station.link.address.port == 0) t.refuse("connect", "needs a port above 0");
  station.link.listens = listens;
  station.mode = t.word("mode", {"push", "ask"}) == "push" ? LinkMode::push : LinkMode::ask;
  station.link.patience = seconds(t, "patience_s", station.link.patience);
  station.link.acknowledge = seconds(t, "acknowledge_s", station.link.acknowledge);
  station.link.finish = seconds(t, "finish_s", station.link.finish);
  t.done();
}

}  // namespace

StationFile load_station(const std::string& path) {
  const TomlTable file = TomlTable::load(path, version);
  const std::filesystem::path parent = std::filesystem::path(path).parent_path();
  const std::string folder = parent.empty() ? "." : parent.string();
  StationFile station;
  station.name = file.text("name");
  station.quick = file.flag("quick", false);

  const TomlTable camera = file.table("camera");
  if (camera.has("recording") == camera.has("address"))
    camera.refuse("recording",
                  "or 'address' must be given, and only one of them: a recording's folder, or a camera as "
                  "v4l2:/dev/video0, http://... or genicam:NAME");
  station.camera =
      camera.has("address")
          ? camera.text("address")
          : "recording:" +
                (std::filesystem::path(folder) / camera.text("recording")).lexically_normal().string();
  camera.done();
  const TomlTable mapping = file.table("mapping");
  station.mapping = (std::filesystem::path(folder) / mapping.text("file")).string();
  mapping.done();

  const TomlTable frame = file.table("frame");
  station.mount = frame.word("mount", {"fixed", "arm"}) == "fixed" ? Mount::fixed : Mount::arm;
  const auto pose =
      frame.numbers(station.mount == Mount::fixed ? "robot_from_board" : "flange_from_board", 3);
  station.frame = {pose[0], pose[1], degrees(pose[2])};
  frame.done();

  for (const TomlTable& t : file.tables("target")) station.targets.push_back(target_of(t, folder));
  if (station.targets.empty()) file.refuse("target", "names no target");
  const TomlTable link = file.table("link");
  read_link(link, station);
  if (station.mount == Mount::arm && station.mode == LinkMode::push)
    link.refuse(
        "mode",
        "is \"push\"; a camera on the arm needs \"ask\", since the robot's pose comes with its question");
  file.done();
  return station;
}

}  // namespace heron
