#include <fcntl.h>
#include <fmt/format.h>
#include <linux/videodev2.h>
#include <poll.h>
#include <sys/ioctl.h>
#include <sys/mman.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cmath>
#include <cstring>
#include <filesystem>
#include <utility>

#include "heron/base/error.hpp"
#include "heron/camera/camera.hpp"
#include "heron/files/picture_file.hpp"
#include "sent_picture.hpp"

namespace heron {
namespace {

// Bit and number of the kernel's interface (linux/videodev2.h) for devices that deliver pictures in one
// plane.
constexpr uint32_t able_to_capture = 0x1;
constexpr uint32_t capture_stream = 1;

int call(int device, unsigned long request, void* argument) {
  int result = 0;
  do result = ioctl(device, request, argument);
  while (result < 0 && errno == EINTR);
  return result;
}

[[noreturn]] void fail_device(const std::string& device, const std::string& what) {
  throw Error(ErrorCode::no_connection, fmt::format("v4l2:{}: {}: {}", device, what, std::strerror(errno)));
}

/// A file descriptor that closes itself.
class Device {
 public:
  explicit Device(const std::string& path) : fd_(open(path.c_str(), O_RDWR | O_NONBLOCK | O_CLOEXEC)) {}
  Device(const Device&) = delete;
  Device& operator=(const Device&) = delete;
  ~Device() {
    if (fd_ >= 0) close(fd_);
  }
  int fd() const { return fd_; }

 private:
  int fd_;
};

bool captures(int fd, v4l2_capability& capability) {
  if (call(fd, VIDIOC_QUERYCAP, &capability) < 0) return false;
  const uint32_t able =
      capability.capabilities & V4L2_CAP_DEVICE_CAPS ? capability.device_caps : capability.capabilities;
  return (able & able_to_capture) && (able & V4L2_CAP_STREAMING);
}

std::optional<Range<double>> control_range(int fd, uint32_t id, double unit) {
  v4l2_queryctrl query{};
  query.id = id;
  if (call(fd, VIDIOC_QUERYCTRL, &query) < 0 || (query.flags & V4L2_CTRL_FLAG_DISABLED)) return std::nullopt;
  return Range<double>{query.minimum * unit, query.maximum * unit};
}

constexpr double exposure_unit_ms = 0.1;  // V4L2_CID_EXPOSURE_ABSOLUTE counts in 100 microseconds

uint8_t clamped(int value) { return static_cast<uint8_t>(std::clamp(value, 0, 255)); }

/// When the exposure of a buffer began or ended, on the steady clock; nothing where the driver does not tell.
std::optional<std::chrono::steady_clock::time_point> stamp_of(const v4l2_buffer& buffer) {
  if ((buffer.flags & V4L2_BUF_FLAG_TIMESTAMP_MASK) != V4L2_BUF_FLAG_TIMESTAMP_MONOTONIC) return std::nullopt;
  return std::chrono::steady_clock::time_point(std::chrono::seconds(buffer.timestamp.tv_sec) +
                                               std::chrono::microseconds(buffer.timestamp.tv_usec));
}

/// A shared buffer of the driver, unmapped with its owner.
class SharedBuffer {
 public:
  SharedBuffer(void* at, size_t length) : at_(at), length_(length) {}
  SharedBuffer(SharedBuffer&& other) noexcept
      : at_(std::exchange(other.at_, nullptr)), length_(other.length_) {}
  SharedBuffer& operator=(SharedBuffer&&) = delete;
  ~SharedBuffer() {
    if (at_) munmap(at_, length_);
  }
  const uint8_t* bytes() const { return static_cast<const uint8_t*>(at_); }
  size_t length() const { return length_; }

 private:
  void* at_;
  size_t length_;
};

/// YUYV holds two pixels in four bytes; ITU-R BT.601.
Image<Rgb> from_yuyv(const uint8_t* bytes, int width, int height, int stride) {
  Image<Rgb> image(width, height);
  for (int y = 0; y < height; ++y) {
    const uint8_t* row = bytes + static_cast<ptrdiff_t>(y) * stride;
    for (int x = 0; x < width; ++x) {
      const int luma = 298 * (row[2 * x] - 16), u = row[4 * (x / 2) + 1] - 128,
                v = row[4 * (x / 2) + 3] - 128;
      image(x, y) = {clamped((luma + 409 * v + 128) >> 8), clamped((luma - 100 * u - 208 * v + 128) >> 8),
                     clamped((luma + 516 * u + 128) >> 8)};
    }
  }
  return image;
}

class V4l2Camera : public Camera {
 public:
  V4l2Camera(std::string path, const CameraTimeout& timeout)
      : path_(std::move(path)), timeout_(timeout), device_(path_) {
    if (device_.fd() < 0) fail_device(path_, "cannot be opened");
    v4l2_capability capability{};
    if (!captures(device_.fd(), capability))
      throw Error(ErrorCode::no_connection,
                  fmt::format("v4l2:{}: is no camera that streams pictures", path_));
    name_ = reinterpret_cast<const char*>(capability.card);
    choose_format();
    start();
  }
  V4l2Camera(const V4l2Camera&) = delete;
  V4l2Camera& operator=(const V4l2Camera&) = delete;
  ~V4l2Camera() override {
    int type = capture_stream;
    call(device_.fd(), VIDIOC_STREAMOFF, &type);
  }

  CameraInfo info() const override {
    return {.address = "v4l2:" + path_,
            .name = name_,
            .width = static_cast<int>(format_.width),
            .height = static_cast<int>(format_.height),
            .exposure_ms = control_range(device_.fd(), V4L2_CID_EXPOSURE_ABSOLUTE, exposure_unit_ms),
            .gain = control_range(device_.fd(), V4L2_CID_GAIN, 1),
            .gain_unit = "of the device"};
  }

  std::optional<Picture> take() override {
    const auto asked = std::chrono::steady_clock::now();
    // What lies in the buffers was exposed before now.
    v4l2_buffer stale{};
    while (dequeue(stale)) enqueue(stale.index);
    const auto deadline = std::chrono::steady_clock::now() + timeout_.wait;
    for (;;) {
      const auto left =
          std::chrono::duration_cast<std::chrono::milliseconds>(deadline - std::chrono::steady_clock::now())
              .count();
      if (timeout_.stop && timeout_.stop->stopped()) return std::nullopt;
      if (left <= 0)
        throw Error(ErrorCode::no_connection,
                    fmt::format("v4l2:{}: no picture within {} ms", path_, timeout_.wait.count()));
      pollfd wait{device_.fd(), POLLIN, 0};
      if (poll(&wait, 1, static_cast<int>(std::min<int64_t>(left, 50))) == 0) continue;
      v4l2_buffer buffer{};
      if (!dequeue(buffer)) continue;
      Picture picture;
      const auto stamp = stamp_of(buffer);
      // A frame that was on its way when the picture was asked for is an old one.
      const bool usable = !(buffer.flags & V4L2_BUF_FLAG_ERROR) && !(stamp && *stamp < asked);
      if (usable)
        picture = picture_of(buffers_[buffer.index].bytes(),
                             std::min<size_t>(buffer.bytesused, buffers_[buffer.index].length()));
      enqueue(buffer.index);
      if (!usable) continue;
      picture.name = "v4l2:" + path_;
      if (info().exposure_ms) picture.exposure_ms = exposure_ms();
      picture.taken = middle_of_exposure(stamp, buffer.flags, picture.exposure_ms.value_or(0));
      return picture;
    }
  }

  double exposure_ms() const override { return get(V4L2_CID_EXPOSURE_ABSOLUTE) * exposure_unit_ms; }
  void set_exposure_ms(double value) override {
    require_in(value, info().exposure_ms, "exposure");
    try {
      set(V4L2_CID_EXPOSURE_AUTO, V4L2_EXPOSURE_MANUAL);
    } catch (const Error&) {
      // A camera without automatic exposure has no such switch.
    }
    set(V4L2_CID_EXPOSURE_ABSOLUTE, static_cast<int>(std::lround(value / exposure_unit_ms)));
  }
  double gain() const override { return get(V4L2_CID_GAIN); }
  void set_gain(double value) override {
    require_in(value, info().gain, "gain");
    set(V4L2_CID_GAIN, static_cast<int>(std::lround(value)));
  }

 private:
  static std::chrono::system_clock::time_point middle_of_exposure(
      std::optional<std::chrono::steady_clock::time_point> stamp, uint32_t flags, double exposure_ms) {
    using std::chrono::duration_cast;
    using System = std::chrono::system_clock;
    const auto since = stamp ? std::chrono::steady_clock::now() - *stamp : std::chrono::nanoseconds(0);
    const bool begins = (flags & V4L2_BUF_FLAG_TSTAMP_SRC_MASK) == V4L2_BUF_FLAG_TSTAMP_SRC_SOE;
    const auto half =
        duration_cast<System::duration>(std::chrono::duration<double, std::milli>(exposure_ms / 2));
    const auto at = System::now() - duration_cast<System::duration>(since);
    return stamp && begins ? at + half : at - half;
  }

  void choose_format() {
    // The least work first.
    for (const uint32_t wanted :
         {V4L2_PIX_FMT_GREY, V4L2_PIX_FMT_RGB24, V4L2_PIX_FMT_YUYV, V4L2_PIX_FMT_MJPEG, V4L2_PIX_FMT_JPEG}) {
      v4l2_fmtdesc offered{};
      offered.type = capture_stream;
      for (offered.index = 0; call(device_.fd(), VIDIOC_ENUM_FMT, &offered) == 0; ++offered.index) {
        if (offered.pixelformat != wanted) continue;
        v4l2_format format{};
        format.type = capture_stream;
        format.fmt.pix.pixelformat = wanted;
        largest_size(wanted, format.fmt.pix.width, format.fmt.pix.height);
        format.fmt.pix.field = V4L2_FIELD_NONE;
        if (call(device_.fd(), VIDIOC_S_FMT, &format) < 0 || format.fmt.pix.pixelformat != wanted) continue;
        format_ = format.fmt.pix;
        if (format_.width < 1 || format_.height < 1 || format_.width > 65535 || format_.height > 65535)
          continue;
        return;
      }
    }
    throw Error(ErrorCode::no_connection,
                fmt::format("v4l2:{}: offers neither grey, RGB, YUYV nor JPEG pictures", path_));
  }

  void largest_size(uint32_t format, uint32_t& width, uint32_t& height) const {
    v4l2_frmsizeenum size{};
    size.pixel_format = format;
    for (size.index = 0; call(device_.fd(), VIDIOC_ENUM_FRAMESIZES, &size) == 0; ++size.index) {
      const uint32_t w =
          size.type == V4L2_FRMSIZE_TYPE_DISCRETE ? size.discrete.width : size.stepwise.max_width;
      const uint32_t h =
          size.type == V4L2_FRMSIZE_TYPE_DISCRETE ? size.discrete.height : size.stepwise.max_height;
      if (static_cast<uint64_t>(w) * h > static_cast<uint64_t>(width) * height) width = w, height = h;
      if (size.type != V4L2_FRMSIZE_TYPE_DISCRETE) break;
    }
  }

  void start() {
    v4l2_requestbuffers request{};
    request.count = 4;
    request.type = capture_stream;
    request.memory = V4L2_MEMORY_MMAP;
    if (call(device_.fd(), VIDIOC_REQBUFS, &request) < 0 || request.count < 2)
      fail_device(path_, "gives no buffers");
    for (uint32_t i = 0; i < request.count; ++i) {
      v4l2_buffer buffer{};
      buffer.type = capture_stream, buffer.memory = V4L2_MEMORY_MMAP, buffer.index = i;
      if (call(device_.fd(), VIDIOC_QUERYBUF, &buffer) < 0) fail_device(path_, "tells no buffer");
      void* at =
          mmap(nullptr, buffer.length, PROT_READ | PROT_WRITE, MAP_SHARED, device_.fd(), buffer.m.offset);
      if (at == MAP_FAILED) fail_device(path_, "shares no memory");
      buffers_.push_back(SharedBuffer(at, buffer.length));
      enqueue(i);
    }
    int type = capture_stream;
    if (call(device_.fd(), VIDIOC_STREAMON, &type) < 0) fail_device(path_, "does not start");
  }

  bool dequeue(v4l2_buffer& buffer) {
    buffer = {};
    buffer.type = capture_stream, buffer.memory = V4L2_MEMORY_MMAP;
    if (call(device_.fd(), VIDIOC_DQBUF, &buffer) == 0) return buffer.index < buffers_.size();
    if (errno != EAGAIN) fail_device(path_, "the camera is gone");
    return false;
  }
  void enqueue(uint32_t index) {
    v4l2_buffer buffer{};
    buffer.type = capture_stream, buffer.memory = V4L2_MEMORY_MMAP, buffer.index = index;
    if (call(device_.fd(), VIDIOC_QBUF, &buffer) < 0) fail_device(path_, "the camera is gone");
  }

  Picture picture_of(const uint8_t* bytes, size_t count) const {
    const auto w = static_cast<int>(format_.width), h = static_cast<int>(format_.height),
               stride = static_cast<int>(format_.bytesperline);
    Picture picture;
    if (format_.pixelformat == V4L2_PIX_FMT_MJPEG || format_.pixelformat == V4L2_PIX_FMT_JPEG)
      return decode_sent({reinterpret_cast<const char*>(bytes), count}, "v4l2:" + path_);
    const int pixel_bytes = format_.pixelformat == V4L2_PIX_FMT_GREY    ? 1
                            : format_.pixelformat == V4L2_PIX_FMT_RGB24 ? 3
                                                                        : 2;
    if (stride < w * pixel_bytes || count < static_cast<size_t>(stride) * static_cast<size_t>(h))
      throw Error(ErrorCode::no_connection,
                  fmt::format("v4l2:{}: a picture of {} bytes is too short", path_, count));
    if (pixel_bytes == 1) {
      picture.pixels = Image<uint8_t>(ImageView<const uint8_t>(bytes, w, h, stride));
    } else if (pixel_bytes == 2) {
      picture.pixels = from_yuyv(bytes, w, h, stride);
    } else {
      Image<Rgb> image(w, h);
      for (int y = 0; y < h; ++y)
        std::memcpy(static_cast<void*>(image.row(y)), bytes + static_cast<ptrdiff_t>(y) * stride,
                    static_cast<size_t>(3 * w));
      picture.pixels = std::move(image);
    }
    return picture;
  }

  int get(uint32_t id) const {
    v4l2_control control{id, 0};
    if (call(device_.fd(), VIDIOC_G_CTRL, &control) < 0)
      fail_argument(fmt::format("v4l2:{}: this camera does not tell that setting", path_));
    return control.value;
  }
  void set(uint32_t id, int value) {
    v4l2_control control{id, value};
    if (call(device_.fd(), VIDIOC_S_CTRL, &control) < 0)
      fail_argument(
          fmt::format("v4l2:{}: this camera does not take that setting: {}", path_, std::strerror(errno)));
  }
  void require_in(double value, const std::optional<Range<double>>& range, const char* what) const {
    if (!range) fail_argument(fmt::format("v4l2:{}: this camera's {} cannot be set", path_, what));
    if (!range->contains(value))
      fail_argument(
          fmt::format("v4l2:{}: {} {:g} is outside {:g}..{:g}", path_, what, value, range->min, range->max));
  }

  std::string path_, name_;
  CameraTimeout timeout_;
  Device device_;
  v4l2_pix_format format_{};
  std::vector<SharedBuffer> buffers_;
};

}  // namespace

std::unique_ptr<Camera> open_v4l2(const std::string& device, const CameraTimeout& timeout) {
  return std::make_unique<V4l2Camera>(device, timeout);
}

std::vector<CameraInfo> list_v4l2() {
  std::vector<std::string> paths;
  std::error_code ignored;
  for (const auto& entry : std::filesystem::directory_iterator("/dev", ignored))
    if (entry.path().filename().string().starts_with("video")) paths.push_back(entry.path().string());
  std::sort(paths.begin(), paths.end());
  std::vector<CameraInfo> cameras;
  for (const std::string& path : paths) {
    const Device device(path);
    v4l2_capability capability{};
    if (device.fd() < 0 || !captures(device.fd(), capability)) continue;
    cameras.push_back(
        {.address = "v4l2:" + path,
         .name = reinterpret_cast<const char*>(capability.card),
         .exposure_ms = control_range(device.fd(), V4L2_CID_EXPOSURE_ABSOLUTE, exposure_unit_ms),
         .gain = control_range(device.fd(), V4L2_CID_GAIN, 1),
         .gain_unit = "of the device"});
  }
  return cameras;
}

}  // namespace heron
