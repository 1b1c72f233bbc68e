#include "heron/files/recording.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <filesystem>

#include "heron/files/atomic_file.hpp"
#include "heron/files/toml_file.hpp"

namespace heron {
namespace {

constexpr int recording_version = 1;
std::string index_of(const std::string& folder) { return folder + "/recording.toml"; }

std::optional<double> number_if(const TomlTable& table, const std::string& key) {
  return table.has(key) ? std::optional(table.number(key)) : std::nullopt;
}

/// Seconds from the first picture of anything that a person waits for.
constexpr double longest_recording_s = 1e7;

bool is_picture(const std::filesystem::path& path) {
  std::string ending = path.extension().string();
  for (char& c : ending) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
  return ending == ".png" || ending == ".jpg" || ending == ".jpeg" || ending == ".tif" || ending == ".tiff";
}

/// picture-9 comes before picture-10.
bool before(const std::string& a, const std::string& b) {
  const auto digit = [](char c) { return c >= '0' && c <= '9'; };
  size_t i = 0, j = 0;
  while (i < a.size() && j < b.size()) {
    if (!digit(a[i]) || !digit(b[j])) {
      if (a[i] != b[j]) return a[i] < b[j];
      ++i, ++j;
      continue;
    }
    while (i < a.size() && a[i] == '0') ++i;
    while (j < b.size() && b[j] == '0') ++j;
    size_t end_a = i, end_b = j;
    while (end_a < a.size() && digit(a[end_a])) ++end_a;
    while (end_b < b.size() && digit(b[end_b])) ++end_b;
    if (end_a - i != end_b - j) return end_a - i < end_b - j;
    const int order = a.compare(i, end_a - i, b, j, end_b - j);
    if (order != 0) return order < 0;
    i = end_a, j = end_b;
  }
  return a.size() - i != b.size() - j ? a.size() - i < b.size() - j : a < b;
}

Recording plain_folder(const std::string& folder) {
  std::vector<std::string> names;
  std::error_code error;
  for (const auto& entry : std::filesystem::directory_iterator(folder, error))
    if (entry.is_regular_file(error) && is_picture(entry.path()))
      names.push_back(entry.path().filename().string());
  if (names.empty())
    fail_file({folder},
              "is no recording; a recording is a folder with pictures (.png, .jpg, .tif), or with "
              "an index recording.toml that names them");
  std::sort(names.begin(), names.end(), before);
  Recording recording{folder, {}, false};
  for (std::string& name : names) recording.pictures.push_back({std::move(name)});
  return recording;
}

}  // namespace

Recording load_recording(const std::string& folder) {
  const std::string index = index_of(folder);
  if (!std::filesystem::exists(index)) return plain_folder(folder);
  const TomlTable file = TomlTable::load(index, recording_version);
  Recording recording{folder, {}};
  for (const TomlTable& table : file.tables("picture")) {
    RecordedPicture picture{table.text("file"), number_if(table, "at_s"), number_if(table, "exposure_ms"),
                            number_if(table, "gain")};
    table.done();
    if (picture.file.find("..") != std::string::npos || picture.file.starts_with("/"))
      table.refuse("file", "must lie inside the recording's folder");
    if (!std::filesystem::exists(folder + "/" + picture.file))
      table.refuse("file", fmt::format("names {}, which is not there", picture.file));
    if (picture.at_s && !recording.pictures.empty() && recording.pictures.back().at_s &&
        *picture.at_s < *recording.pictures.back().at_s)
      table.refuse("at_s", "is earlier than that of the picture before it");
    if (picture.at_s && !(*picture.at_s >= 0 && *picture.at_s <= longest_recording_s))
      table.refuse("at_s", fmt::format("must be from 0 to {:g} seconds", longest_recording_s));
    recording.pictures.push_back(std::move(picture));
  }
  file.done();
  if (recording.pictures.empty()) file.refuse("picture", "lists no pictures");
  return recording;
}

void save_recording(const Recording& recording) {
  std::string text = fmt::format(
      "# Able Heron recording: pictures in the order they were taken.\nversion = {}\n", recording_version);
  for (const RecordedPicture& p : recording.pictures) {
    text += fmt::format("\n[[picture]]\nfile = {}\n", toml_text(p.file));
    if (p.at_s) text += fmt::format("at_s = {}\n", toml_number(*p.at_s));
    if (p.exposure_ms) text += fmt::format("exposure_ms = {}\n", toml_number(*p.exposure_ms));
    if (p.gain) text += fmt::format("gain = {}\n", toml_number(*p.gain));
  }
  write_file(index_of(recording.folder), text);
}

}  // namespace heron
