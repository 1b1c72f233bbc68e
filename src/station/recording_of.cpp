#include "recording_of.hpp"

#include <fmt/format.h>

#include "heron/base/error.hpp"

namespace heron {

std::unique_ptr<Camera> recording_of(const std::string& address, size_t passed) {
  const std::string kind = "recording:";
  if (!address.starts_with(kind))
    fail_argument(fmt::format("station: the camera '{}' is no recording; open it and hand it over", address));
  return open_recording(address.substr(kind.size()), Pace::at_once, nullptr, passed);
}

}  // namespace heron
