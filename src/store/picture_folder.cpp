#include "heron/store/picture_folder.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <filesystem>
#include <vector>

#include "heron/base/error.hpp"
#include "heron/files/atomic_file.hpp"
#include "heron/files/picture_file.hpp"

namespace heron {
namespace {

constexpr std::array endings{".png", ".tif"};              // a height map is a TIFF
constexpr uintmax_t room_for_results = 100 * 1000 * 1000;  // bytes
constexpr size_t max_kinds = 200;
constexpr std::string_view kinds_head = "number,kind\n";

std::string first_of(const std::string& folder) { return (std::filesystem::path(folder) / "first").string(); }
std::string kinds_file(const std::string& folder) {
  return (std::filesystem::path(first_of(folder)) / "kinds.csv").string();
}

std::string path_of(const std::string& folder, uint64_t number, const char* ending) {
  return (std::filesystem::path(folder) / fmt::format("{:06}{}", number, ending)).string();
}

}  // namespace

PictureFolder::PictureFolder(std::string folder, int keep, int keep_first)
    : folder_(std::move(folder)), keep_(static_cast<uint64_t>(keep)), keep_first_(keep_first) {
  const std::string made = keep_first > 0 ? first_of(folder_) : folder_;
  std::error_code error;
  std::filesystem::create_directories(made, error);
  if (error) throw Error(ErrorCode::not_writable, fmt::format("{}: {}", made, error.message()));
  if (keep_first > 0) read_kinds();
}

/// A kind is the rest of its line, whatever it holds.
void PictureFolder::read_kinds() {
  const std::string path = kinds_file(folder_);
  kinds_ = kinds_head;
  if (!std::filesystem::exists(path)) return;
  const std::string text = read_file(path);
  const auto broken = [&](int line) {
    fail_file(
        {.file = path, .line = line},
        "expected the heading 'number,kind' and then lines such as '17,nothing found'; remove the file to "
        "collect firsts anew");
  };
  if (!text.starts_with(kinds_head) || text.back() != '\n') broken(1);
  int line = 1;
  for (size_t begin = kinds_head.size(); begin < text.size();) {
    ++line;
    const size_t end = text.find('\n', begin), comma = text.find(',', begin);
    if (comma == std::string::npos || comma + 1 >= end || kept_.size() > max_kinds) broken(line);
    ++kept_[text.substr(comma + 1, end - comma - 1)];
    begin = end + 1;
  }
  kinds_ = text;
}

bool PictureFolder::is_among_first(const std::string& kind) const {
  if (kind.empty() || keep_first_ == 0) return false;
  const auto at = kept_.find(kind);
  return at == kept_.end() ? kept_.size() < max_kinds : at->second < keep_first_;
}

std::string PictureFolder::find(const std::string& folder, uint64_t number) {
  for (const std::string& where : {folder, first_of(folder)})
    for (const char* ending : endings)
      if (std::string path = path_of(where, number, ending); std::filesystem::exists(path)) return path;
  return {};
}

std::string PictureFolder::keep(uint64_t number, const Picture& picture, std::string kind) {
  std::replace(kind.begin(), kind.end(), '\n', ' ');  // a name may hold one, a line of kinds.csv may not
  std::error_code error;
  const auto space = std::filesystem::space(folder_, error);
  if (!error && space.available < room_for_results)
    return fmt::format("{}: the disk has only {} MB left", folder_, space.available / 1000000);
  const bool first = is_among_first(kind);
  try {
    const bool heights = std::holds_alternative<Image<float>>(picture.pixels);
    save_picture(path_of(first ? first_of(folder_) : folder_, number, endings[heights ? 1 : 0]), picture);
    if (first) {
      const std::string kinds = kinds_ + fmt::format("{},{}\n", number, kind);
      write_file(kinds_file(folder_), kinds);
      kinds_ = kinds, ++kept_[kind];
      return {};
    }
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
