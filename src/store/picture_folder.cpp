#include "heron/store/picture_folder.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <filesystem>
#include <vector>

#include "heron/base/error.hpp"
#include "heron/files/picture_file.hpp"

namespace heron {
namespace {

constexpr std::array endings{".png", ".tif"};              // a height map is a TIFF
constexpr uintmax_t room_for_results = 100 * 1000 * 1000;  // bytes

std::string path_of(const std::string& folder, uint64_t number, const char* ending) {
  return (std::filesystem::path(folder) / fmt::format("{:06}{}", number, ending)).string();
}

}  // namespace

PictureFolder::PictureFolder(std::string folder, int keep)
    : folder_(std::move(folder)), keep_(static_cast<uint64_t>(keep)) {
  std::error_code error;
  std::filesystem::create_directories(folder_, error);
  if (error) throw Error(ErrorCode::not_writable, fmt::format("{}: {}", folder_, error.message()));
}

std::string PictureFolder::find(const std::string& folder, uint64_t number) {
  for (const char* ending : endings)
    if (std::string path = path_of(folder, number, ending); std::filesystem::exists(path)) return path;
  return {};
}

std::string PictureFolder::keep(uint64_t number, const Picture& picture) {
  std::error_code error;
  const auto space = std::filesystem::space(folder_, error);
  if (!error && space.available < room_for_results)
    return fmt::format("{}: the disk has only {} MB left", folder_, space.available / 1000000);
  try {
    const bool heights = std::holds_alternative<Image<float>>(picture.pixels);
    save_picture(path_of(folder_, number, endings[heights ? 1 : 0]), picture);
  } catch (const Error& failed) {
    return failed.what();
  }
  // Not every number has a picture: the oldest leave by their count.
  std::vector<uint64_t> numbers;
  for (const auto& entry : std::filesystem::directory_iterator(folder_, error)) {
    const std::string stem = entry.path().stem().string();
    uint64_t n = 0;
    const auto [end, failed] = std::from_chars(stem.data(), stem.data() + stem.size(), n);
    if (failed == std::errc() && end == stem.data() + stem.size() &&
        std::find(endings.begin(), endings.end(), entry.path().extension().string()) != endings.end())
      numbers.push_back(n);
  }
  if (numbers.size() > keep_) {
    std::sort(numbers.begin(), numbers.end());
    for (size_t i = 0; i < numbers.size() - keep_; ++i)
      std::filesystem::remove(find(folder_, numbers[i]), error);
  }
  return {};
}

}  // namespace heron
