#include "heron/camera/camera.hpp"

#include <fmt/format.h>

#include "heron/base/error.hpp"

namespace heron {

double Camera::exposure_ms() const {
  fail_argument(fmt::format("{}: this camera does not tell its exposure", info().address));
}
void Camera::set_exposure_ms(double) {
  fail_argument(fmt::format("{}: this camera's exposure cannot be set", info().address));
}
double Camera::gain() const {
  fail_argument(fmt::format("{}: this camera does not tell its gain", info().address));
}
void Camera::set_gain(double) {
  fail_argument(fmt::format("{}: this camera's gain cannot be set", info().address));
}

}  // namespace heron
