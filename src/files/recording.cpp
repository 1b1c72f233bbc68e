#include "heron/files/recording.hpp"

#include <fmt/format.h>

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

}  // namespace

Recording load_recording(const std::string& folder) {
  const std::string index = index_of(folder);
  if (!std::filesystem::exists(index))
    fail_file(
        fmt::format("{}: is no recording; a recording is a folder with an index recording.toml", folder));
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
