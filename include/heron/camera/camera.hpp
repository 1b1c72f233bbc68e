#pragma once
#include <chrono>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "heron/base/range.hpp"
#include "heron/base/work.hpp"
#include "heron/image/picture.hpp"

namespace heron {

/// What a camera is and what it can do.
struct CameraInfo {
  std::string address;  ///< what opens it: recording:FOLDER, v4l2:/dev/video0, http://..., genicam:NAME
  std::string name;
  int width = 0, height = 0;                      ///< 0 when only a picture will tell
  std::optional<Range<double>> exposure_ms = {};  ///< nothing: cannot be set
  std::optional<Range<double>> gain = {};         ///< in the camera's own unit
  std::string gain_unit = {};
  bool live = true;  ///< its pictures are exposed when they are asked for, and their times are those of now
};

/// A source of pictures. Each `take` gives a picture exposed after the call began, or the next of a
/// recording.
class Camera {
 public:
  virtual ~Camera() = default;
  virtual CameraInfo info() const = 0;
  /// The next picture, its time and, where known, its exposure; nothing when a recording has ended, or after
  /// a stop. Throws Error{no_connection} when the camera is gone, stays silent for longer than its timeout,
  /// or sends what is no picture: trying again may help. Other errors stay.
  virtual std::optional<Picture> take() = 0;

  /// Each throws Error{invalid_argument} when the camera cannot, or outside its range.
  virtual double exposure_ms() const;
  virtual void set_exposure_ms(double value);
  virtual double gain() const;
  virtual void set_gain(double value);
};

struct CameraTimeout {
  std::chrono::milliseconds wait{3000};  ///< for one picture, from asking to its last byte
  const Work* stop = nullptr;            ///< ends every wait within a tenth of a second
};

/// How a recording is replayed.
enum class Pace {
  at_once,   ///< each picture when it is asked for
  as_taken,  ///< not before its time; pictures without a time come at once
};

/// Reads the first picture for its size. The first `passed` pictures were taken earlier and are passed over.
/// Throws Error{bad_file} as load_recording.
std::unique_ptr<Camera> open_recording(const std::string& folder, Pace pace = Pace::at_once,
                                       const Work* stop = nullptr, size_t passed = 0);

/// A device of the kernel's video interface (V4L2), such as /dev/video0: grey, YUYV, RGB or JPEG, streamed
/// through shared buffers; a picture that was exposed before `take` was called is thrown away, by the
/// driver's time stamps where it gives them. Throws Error{no_connection}.
std::unique_ptr<Camera> open_v4l2(const std::string& device, const CameraTimeout& timeout = {});
/// Every /dev/video* that captures pictures.
std::vector<CameraInfo> list_v4l2();

}  // namespace heron
