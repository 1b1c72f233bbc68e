#include <fmt/format.h>

#include <charconv>
#include <nlohmann/json.hpp>

#include "any_camera.hpp"
#include "commands.hpp"
#include "heron/base/error.hpp"
#include "heron/simulation/simulated_camera.hpp"
#include "log.hpp"
#ifdef HERON_HAS_GENICAM
#include "heron/camera/genicam_camera.hpp"
#endif
#ifdef HERON_HAS_HTTP_CAMERA
#include "heron/camera/http_camera.hpp"
#endif

namespace heron::tool {
namespace {

using Json = nlohmann::ordered_json;

Json json_of(const std::optional<Range<double>>& range) {
  return range ? Json{range->min, range->max} : Json(nullptr);
}

void print_camera(const CameraInfo& c, bool json) {
  if (json) {
    fmt::print("{}\n", Json{{"address", c.address},
                            {"name", c.name},
                            {"width", c.width},
                            {"height", c.height},
                            {"exposure_ms", json_of(c.exposure_ms)},
                            {"gain", json_of(c.gain)}}
                           .dump());
    return;
  }
  fmt::print("{:<36} {}\n", c.address, c.name);
  if (c.width > 0) fmt::print("  {:<34} {} x {}\n", "pixels", c.width, c.height);
  if (c.exposure_ms)
    fmt::print("  {:<34} {:g} to {:g} ms\n", "exposure", c.exposure_ms->min, c.exposure_ms->max);
  if (c.gain) fmt::print("  {:<34} {:g} to {:g} {}\n", "gain", c.gain->min, c.gain->max, c.gain_unit);
}

[[maybe_unused]] [[noreturn]] void not_built(const std::string& address, const char* cameras,
                                             const char* package) {
  fail_argument(fmt::format("camera '{}': this heron was built without {}; install {} and build it again",
                            address, cameras, package));
}

std::unique_ptr<Camera> genicam_at(const std::string& address, const std::string& name,
                                   const CameraTimeout& timeout) {
#ifdef HERON_HAS_GENICAM
  static_cast<void>(address);
  return open_genicam(name, timeout);
#else
  static_cast<void>(name), static_cast<void>(timeout);
  not_built(address, "GenICam cameras", "libaravis-dev");
#endif
}

std::unique_ptr<Camera> http_at(const std::string& address, const CameraTimeout& timeout) {
#ifdef HERON_HAS_HTTP_CAMERA
  return open_http(address, timeout);
#else
  static_cast<void>(timeout);
  not_built(address, "HTTP cameras", "libcurl4-openssl-dev");
#endif
}

std::vector<CameraInfo> connected_cameras() {
  std::vector<CameraInfo> found = list_v4l2();
#ifdef HERON_HAS_GENICAM
  for (CameraInfo& camera : list_genicam()) found.push_back(std::move(camera));
#endif
  return found;
}

}  // namespace

std::unique_ptr<Camera> open_any_camera(const std::string& address, Pace pace, const Work* stop) {
  const CameraTimeout timeout{.stop = stop};
  const auto rest = [&](const char* kind) -> std::optional<std::string> {
    if (!address.starts_with(kind)) return std::nullopt;
    return address.substr(std::string_view(kind).size());
  };
  if (const auto folder = rest("recording:")) return open_recording(*folder, pace, stop);
  if (const auto device = rest("v4l2:")) return open_v4l2(*device, timeout);
  if (const auto name = rest("genicam:")) return genicam_at(address, *name, timeout);
  if (address.starts_with("http://")) return http_at(address, timeout);
  if (const auto text = rest("simulated:")) {
    uint64_t seed = 0;
    const auto [end, error] = std::from_chars(text->data(), text->data() + text->size(), seed);
    if (error == std::errc() && end == text->data() + text->size()) return open_simulated(seed);
  }
  fail_argument(
      fmt::format("camera '{}': it is written recording:FOLDER, simulated:SEED, v4l2:/dev/video0, "
                  "http://host:port/path or genicam:NAME; `heron cameras` lists those that are there",
                  address));
}

void add_cameras(CLI::App& app, Action& action) {
  struct CamerasOptions {
    std::vector<std::string> addresses;
    bool json = false;
  };
  auto o = std::make_shared<CamerasOptions>();
  CLI::App* c = app.add_subcommand("cameras", "Lists the connected cameras and their properties");
  c->add_option("addresses", o->addresses, "addresses of cameras to open; default: all that are found");
  c->add_flag("--json", o->json, "prints one JSON object for each camera");
  c->footer(
      "Example: heron cameras\n         heron cameras simulated:1 genicam:192.168.0.17 "
      "http://10.0.0.5:8080/stream");
  c->callback([o, &action] {
    action = [o] {
      std::vector<CameraInfo> found;
      for (const std::string& address : o->addresses) found.push_back(open_any_camera(address)->info());
      if (o->addresses.empty()) found = connected_cameras();
      for (const CameraInfo& camera : found) print_camera(camera, o->json);
      if (found.empty())
        log_error(
            "cameras: no camera answers, neither /dev/video* nor on the network; simulated:1 is "
            "always there, and HTTP cameras are named by their address");
      return found.empty() ? 1 : 0;
    };
  });
}

}  // namespace heron::tool
