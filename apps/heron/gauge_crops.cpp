#include "gauge_crops.hpp"

#include <fmt/format.h>

#include <filesystem>

#include "heron/files/picture_file.hpp"

namespace heron::tool {

void save_crops(const std::string& folder, const Report& report) {
  std::error_code error;
  std::filesystem::create_directories(folder, error);
  if (error)
    throw Error(ErrorCode::not_writable, ErrorPlace{folder},
                fmt::format("cannot be made: {}", error.message()));
  for (const Reading& r : report.readings) {
    if (!r.crop) continue;
    std::string gauge = r.gauge;
    for (char& c : gauge)
      if (c == '/' || static_cast<unsigned char>(c) <= ' ') c = '-';
    const std::string picture = std::filesystem::path(report.picture).stem().string();
    save_picture(
        fmt::format("{}/{}-{}{}.png", folder, picture, gauge, r.part ? fmt::format("-{}", *r.part + 1) : ""),
        *r.crop);
  }
}

}  // namespace heron::tool
