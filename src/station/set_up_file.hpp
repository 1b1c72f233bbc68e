#pragma once
#include "heron/files/toml_file.hpp"
#include "heron/station/station_file.hpp"

namespace heron {

/// A set-up as a file gives it, and what the file leaves open.
struct ReadSetUp {
  SetUp setup;
  bool has_frame = false;
};

/// The tables of a set-up in `file`, over what `base` says. Paths are relative to `folder`.
ReadSetUp read_set_up(const TomlTable& file, const std::string& folder, ReadSetUp base);
/// Refuses what a set-up cannot do without.
void require_whole(const TomlTable& file, const ReadSetUp& read);
/// The set-ups that a station's file names; none where it is its own only one.
std::vector<SetUp> read_set_ups(const TomlTable& file, const std::string& folder, const ReadSetUp& base);
/// Durations above 0 and at most a day.
std::chrono::milliseconds seconds_in(const TomlTable& t, const std::string& key,
                                     std::chrono::milliseconds otherwise);
/// A path relative to `folder`; empty where the key is missing.
std::string path_in(const TomlTable& t, const std::string& key, const std::string& folder);

}  // namespace heron
