#include <fmt/format.h>

#include <algorithm>

#include "heron/camera/camera.hpp"
#include "heron/camera/pause.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/recording.hpp"

namespace heron {
namespace {

using Clock = std::chrono::steady_clock;

class RecordingCamera : public Camera {
 public:
  RecordingCamera(const std::string& folder, Pace pace, const Work* stop, size_t passed)
      : recording_(load_recording(folder)), pace_(pace), stop_(stop) {
    first_ = next_ = std::min(passed, recording_.size());
    const Picture first = load_picture(recording_.path(0));
    width_ = first.width(), height_ = first.height();
  }

  CameraInfo info() const override {
    return {.address = "recording:" + recording_.folder,
            .name = fmt::format("recording of {} pictures", recording_.size()),
            .width = width_,
            .height = height_,
            .live = false};
  }

  std::optional<Picture> take() override {
    if (next_ == recording_.size()) return std::nullopt;
    const RecordedPicture& recorded = recording_.pictures[next_];
    if (next_ == first_) begun_ = Clock::now() - time_of(recorded);
    if (pace_ == Pace::as_taken) pause_until(begun_ + time_of(recorded), stop_);
    if (stop_ && stop_->stopped()) return std::nullopt;
    Picture picture = load_picture(recording_.path(next_++));
    picture.exposure_ms = recorded.exposure_ms;
    picture.gain = recorded.gain;
    picture.taken = {};  // when a file was copied says nothing
    if (recorded.at_s)
      picture.taken = std::chrono::system_clock::time_point(
          std::chrono::duration_cast<std::chrono::system_clock::duration>(time_of(recorded)));
    return picture;
  }

 private:
  static Clock::duration time_of(const RecordedPicture& p) {
    return std::chrono::duration_cast<Clock::duration>(std::chrono::duration<double>(p.at_s.value_or(0)));
  }

  Recording recording_;
  Pace pace_;
  const Work* stop_;
  int width_ = 0, height_ = 0;
  size_t first_ = 0, next_ = 0;
  Clock::time_point begun_{};
};

}  // namespace

std::unique_ptr<Camera> open_recording(const std::string& folder, Pace pace, const Work* stop,
                                       size_t passed) {
  return std::make_unique<RecordingCamera>(folder, pace, stop, passed);
}

}  // namespace heron
