#include "heron/camera/genicam_camera.hpp"

#include <arv.h>
#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "heron/base/error.hpp"

namespace heron {
namespace {

struct Unref {
  void operator()(void* object) const { g_object_unref(object); }
};

/// Turns a GError into ours.
class Trouble {
 public:
  ~Trouble() { g_clear_error(&error_); }
  GError** out() {
    g_clear_error(&error_);
    return &error_;
  }
  explicit operator bool() const { return error_ != nullptr; }
  std::string words() const { return error_ ? error_->message : "it does not answer"; }

 private:
  GError* error_ = nullptr;
};

std::optional<Range<double>> exposure_range(ArvCamera* camera) {
  Trouble trouble;
  double min = 0, max = 0;
  arv_camera_get_exposure_time_bounds(camera, &min, &max, trouble.out());
  return trouble || !(max > min) ? std::nullopt : std::optional(Range<double>{min / 1000, max / 1000});
}

std::optional<Range<double>> gain_range(ArvCamera* camera) {
  Trouble trouble;
  double min = 0, max = 0;
  arv_camera_get_gain_bounds(camera, &min, &max, trouble.out());
  return trouble || !(max > min) ? std::nullopt : std::optional(Range<double>{min, max});
}

class GenicamCamera : public Camera {
 public:
  GenicamCamera(std::string name, const CameraTimeout& timeout) : name_(std::move(name)), timeout_(timeout) {
    Trouble trouble;
    camera_.reset(arv_camera_new(name_.c_str(), trouble.out()));
    if (!camera_)
      throw Error(
          ErrorCode::no_connection,
          fmt::format("genicam:{}: {}. `heron cameras` lists those that answer", name_, trouble.words()));
  }

  CameraInfo info() const override {
    Trouble trouble;
    CameraInfo info{.address = "genicam:" + name_, .name = name_};
    const char* vendor = arv_camera_get_vendor_name(camera_.get(), trouble.out());
    const char* model = arv_camera_get_model_name(camera_.get(), trouble.out());
    if (vendor && model) info.name = fmt::format("{} {}", vendor, model);
    int x = 0, y = 0;
    arv_camera_get_region(camera_.get(), &x, &y, &info.width, &info.height, trouble.out());
    info.exposure_ms = exposure_range(camera_.get());
    info.gain = gain_range(camera_.get());
    info.gain_unit = "dB or of the camera";
    return info;
  }

  std::optional<Picture> take() override {
    const auto buffer = whole_buffer();
    if (!buffer) return std::nullopt;
    Picture picture = picture_of(buffer.get());
    picture.name = "genicam:" + name_;
    if (exposure_range(camera_.get())) picture.exposure_ms = exposure_ms();
    picture.taken = middle_of_exposure(buffer.get(), picture.exposure_ms.value_or(0));
    if (gain_range(camera_.get())) picture.gain = gain();
    return picture;
  }

  double exposure_ms() const override {
    Trouble trouble;
    const double value = arv_camera_get_exposure_time(camera_.get(), trouble.out()) / 1000;
    if (trouble)
      fail_argument(fmt::format("genicam:{}: does not tell its exposure: {}", name_, trouble.words()));
    return value;
  }
  void set_exposure_ms(double value) override {
    require_in(value, exposure_range(camera_.get()), "exposure");
    Trouble trouble;
    arv_camera_set_exposure_time(camera_.get(), value * 1000, trouble.out());
    if (trouble)
      fail_argument(
          fmt::format("genicam:{}: does not take an exposure of {:g} ms: {}", name_, value, trouble.words()));
  }
  double gain() const override {
    Trouble trouble;
    const double value = arv_camera_get_gain(camera_.get(), trouble.out());
    if (trouble) fail_argument(fmt::format("genicam:{}: does not tell its gain: {}", name_, trouble.words()));
    return value;
  }
  void set_gain(double value) override {
    require_in(value, gain_range(camera_.get()), "gain");
    Trouble trouble;
    arv_camera_set_gain(camera_.get(), value, trouble.out());
    if (trouble)
      fail_argument(
          fmt::format("genicam:{}: does not take a gain of {:g}: {}", name_, value, trouble.words()));
  }

 private:
  /// The first packet arrives when the exposure has ended.
  static std::chrono::system_clock::time_point middle_of_exposure(ArvBuffer* buffer, double exposure_ms) {
    using System = std::chrono::system_clock;
    const auto stamp = std::chrono::nanoseconds(arv_buffer_get_system_timestamp(buffer));
    const auto now = System::now();
    const System::time_point arrived(std::chrono::duration_cast<System::duration>(stamp));
    const bool plausible = arrived <= now && now - arrived < std::chrono::minutes(1);
    return (plausible ? arrived : now) - std::chrono::duration_cast<System::duration>(
                                             std::chrono::duration<double, std::milli>(exposure_ms / 2));
  }

  template <class T>
  static Image<T> pixels_of(const void* data, int width, int height) {
    Image<T> image(width, height);
    for (int y = 0; y < height; ++y)
      std::memcpy(
          static_cast<void*>(image.row(y)),
          static_cast<const char*>(data) + sizeof(T) * static_cast<size_t>(y) * static_cast<size_t>(width),
          sizeof(T) * static_cast<size_t>(width));
    return image;
  }

  using Clock = std::chrono::steady_clock;

  bool stopped() const { return timeout_.stop && timeout_.stop->stopped(); }

  [[noreturn]] void fail(const std::string& what) const {
    throw Error(ErrorCode::no_connection, fmt::format("genicam:{}: {}", name_, what));
  }

  /// One exposure in a stream of its own; nothing when time is up or a stop was asked for.
  std::unique_ptr<ArvBuffer, Unref> expose(Clock::time_point deadline) const {
    Trouble trouble;
    const guint payload = arv_camera_get_payload(camera_.get(), trouble.out());
    if (trouble) fail(trouble.words());
    const std::unique_ptr<ArvStream, Unref> stream(
        arv_camera_create_stream(camera_.get(), nullptr, nullptr, trouble.out()));
    if (!stream) fail(trouble.words());
    arv_stream_push_buffer(stream.get(), arv_buffer_new(payload, nullptr));
    arv_camera_set_acquisition_mode(camera_.get(), ARV_ACQUISITION_MODE_SINGLE_FRAME, trouble.out());
    if (!trouble) arv_camera_start_acquisition(camera_.get(), trouble.out());
    if (trouble) fail(trouble.words());
    std::unique_ptr<ArvBuffer, Unref> buffer;
    while (!buffer && !stopped() && Clock::now() < deadline)
      buffer.reset(arv_stream_timeout_pop_buffer(stream.get(), 50000));
    arv_camera_stop_acquisition(camera_.get(), trouble.out());
    return buffer;
  }

  /// Packets are lost wherever the network or this machine is busy for a moment, so what did not arrive
  /// whole is exposed again while there is timeout. Nothing after a stop.
  std::unique_ptr<ArvBuffer, Unref> whole_buffer() const {
    const auto deadline = Clock::now() + timeout_.wait;
    int tries = 0;
    do {
      auto buffer = expose(deadline);
      if (stopped()) return nullptr;
      if (buffer && arv_buffer_get_status(buffer.get()) == ARV_BUFFER_STATUS_SUCCESS) return buffer;
      if (buffer) ++tries;
    } while (Clock::now() < deadline);
    if (tries == 0) fail(fmt::format("no picture within {} ms", timeout_.wait.count()));
    fail(
        fmt::format("none of {} pictures within {} ms arrived whole; is the network fast enough, and are its "
                    "packets as large as the camera's?",
                    tries, timeout_.wait.count()));
  }

  Picture picture_of(ArvBuffer* buffer) const {
    size_t bytes = 0;
    const void* data = arv_buffer_get_data(buffer, &bytes);
    const int w = arv_buffer_get_image_width(buffer), h = arv_buffer_get_image_height(buffer);
    const ArvPixelFormat format = arv_buffer_get_image_pixel_format(buffer);
    const size_t pixel_bytes = format == ARV_PIXEL_FORMAT_MONO_8         ? 1
                               : format == ARV_PIXEL_FORMAT_MONO_16      ? 2
                               : format == ARV_PIXEL_FORMAT_RGB_8_PACKED ? 3
                                                                         : 0;
    if (pixel_bytes == 0)
      fail_argument(
          fmt::format("genicam:{}: its pixel format {:#x} is not read; set it to Mono8, Mono16 or RGB8",
                      name_, static_cast<unsigned>(format)));
    if (w < 1 || h < 1 || w > 65535 || h > 65535 || !data ||
        bytes < pixel_bytes * static_cast<size_t>(w) * static_cast<size_t>(h))
      fail(fmt::format("a picture of {} bytes is too short for {} x {} pixels", bytes, w, h));
    Picture picture;
    if (pixel_bytes == 1)
      picture.pixels = pixels_of<uint8_t>(data, w, h);
    else if (pixel_bytes == 2)
      picture.pixels = pixels_of<uint16_t>(data, w, h);
    else
      picture.pixels = pixels_of<Rgb>(data, w, h);
    return picture;
  }

  void require_in(double value, const std::optional<Range<double>>& range, const char* what) const {
    if (!range) fail_argument(fmt::format("genicam:{}: this camera's {} cannot be set", name_, what));
    if (!range->contains(value))
      fail_argument(fmt::format("genicam:{}: {} {:g} is outside {:g}..{:g}", name_, what, value, range->min,
                                range->max));
  }

  std::string name_;
  CameraTimeout timeout_;
  std::unique_ptr<ArvCamera, Unref> camera_;
};

}  // namespace

std::unique_ptr<Camera> open_genicam(const std::string& name, const CameraTimeout& timeout) {
  return std::make_unique<GenicamCamera>(name, timeout);
}

std::vector<CameraInfo> list_genicam() {
  arv_update_device_list();
  std::vector<CameraInfo> cameras;
  for (unsigned i = 0; i < arv_get_n_devices(); ++i) {
    const char *id = arv_get_device_id(i), *vendor = arv_get_device_vendor(i),
               *model = arv_get_device_model(i), *protocol = arv_get_device_protocol(i);
    if (id)
      cameras.push_back({.address = std::string("genicam:") + id,
                         .name = fmt::format("{} {} ({})", vendor ? vendor : "", model ? model : "",
                                             protocol ? protocol : "")});
  }
  return cameras;
}

}  // namespace heron
