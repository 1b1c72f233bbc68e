#pragma once
#include <string>
#include <vector>

namespace heron {

/// A folder of pictures with an index `recording.toml`, replayed as if it were a camera; docs/formats.md.
struct Recording {
  std::string folder;
  std::vector<std::string> files;  ///< names inside the folder, in order

  size_t size() const { return files.size(); }
  std::string path(size_t index) const { return folder + "/" + files[index]; }
};

/// Throws Error{bad_file} when there is no index, it is broken, or a picture it names is missing.
Recording load_recording(const std::string& folder);

/// Writes the index; the pictures are already there.
void save_recording(const Recording& recording);

}  // namespace heron
