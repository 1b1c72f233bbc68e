#include "heron/files/recording.hpp"

#include <fmt/format.h>

#include <filesystem>

#include "heron/files/atomic_file.hpp"
#include "heron/files/toml_file.hpp"

namespace heron {
namespace {
constexpr int version = 1;
std::string index_of(const std::string& folder) { return folder + "/recording.toml"; }
}  // namespace

Recording load_recording(const std::string& folder) {
  const std::string index = index_of(folder);
  if (!std::filesystem::exists(index))
    fail_file(
        fmt::format("{}: is no recording; a recording is a folder with an index recording.toml", folder));
  const TomlTable file = TomlTable::load(index, version);
  Recording recording{folder, {}};
  for (const TomlTable& picture : file.tables("picture")) {
    const std::string name = picture.text("file");
    picture.done();
    if (name.find("..") != std::string::npos || name.starts_with("/"))
      picture.refuse("file", "must lie inside the recording's folder");
    if (!std::filesystem::exists(folder + "/" + name))
      picture.refuse("file", fmt::format("names {}, which is not there", name));
    recording.files.push_back(name);
  }
  file.done();
  if (recording.files.empty()) file.refuse("picture", "lists no pictures");
  return recording;
}

void save_recording(const Recording& recording) {
  std::string text =
      fmt::format("# Able Heron recording: pictures in the order they were taken.\nversion = {}\n", version);
  for (const std::string& name : recording.files)
    text += fmt::format("\n[[picture]]\nfile = {}\n", toml_text(name));
  write_file(index_of(recording.folder), text);
}

}  // namespace heron
