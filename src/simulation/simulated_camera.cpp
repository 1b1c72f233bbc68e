#include "heron/simulation/simulated_camera.hpp"

#include <fmt/format.h>

#include "heron/base/error.hpp"
#include "heron/render/tray_station.hpp"

namespace heron {
namespace {

using namespace render;

class SimulatedCamera : public Camera {
 public:
  explicit SimulatedCamera(uint64_t seed)
      : seed_(seed), station_(make_tray_station(seed)), random_(seed ^ 0xca3eULL) {}

  CameraInfo info() const override {
    return {.address = fmt::format("simulated:{}", seed_),
            .name = "simulated camera above the tray",
            .width = 1280,
            .height = 1024,
            .exposure_ms = Range<double>{0.05, 50},
            .gain = Range<double>{1, 16},
            .gain_unit = "times"};
  }
  std::optional<Picture> take() override {
    Scene scene = station_.views[next_++ % station_.views.size()].scene;
    scene.exposure *= exposure_ms_ / right_exposure_ms;
    Noise noise = station_.noise;
    noise.gain = gain_;
    Picture picture;
    picture.pixels = expose(exact_picture(scene), noise, random_);
    picture.name = fmt::format("simulated:{}", seed_);
    picture.taken = std::chrono::system_clock::now();
    picture.exposure_ms = exposure_ms_, picture.gain = gain_;
    return picture;
  }
  double exposure_ms() const override { return exposure_ms_; }
  void set_exposure_ms(double value) override {
    require_in(value, *info().exposure_ms, "exposure");
    exposure_ms_ = value;
  }
  double gain() const override { return gain_; }
  void set_gain(double value) override {
    require_in(value, *info().gain, "gain");
    gain_ = value;
  }

 private:
  static constexpr double right_exposure_ms = 8;
  static void require_in(double value, const Range<double>& range, const char* what) {
    if (!range.contains(value))
      fail_argument(
          fmt::format("simulated camera: {} {:g} is outside {:g}..{:g}", what, value, range.min, range.max));
  }

  uint64_t seed_;
  TrayStation station_;
  Random random_;
  size_t next_ = 0;
  double exposure_ms_ = right_exposure_ms, gain_ = 1;
};

}  // namespace

std::unique_ptr<Camera> open_simulated(uint64_t seed) { return std::make_unique<SimulatedCamera>(seed); }

}  // namespace heron
