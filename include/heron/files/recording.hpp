#pragma once
#include <optional>
#include <string>
#include <vector>

namespace heron {

/// One picture of a recording.
struct RecordedPicture {
  std::string file;                                   ///< inside the folder
  std::optional<double> at_s = {};                    ///< seconds since the recording began
  std::optional<double> exposure_ms = {}, gain = {};  ///< how it was taken, where that is known
};

/// A folder of pictures with an index `recording.toml`, replayed as if it were a camera; docs/formats.md.
struct Recording {
  std::string folder;
  std::vector<RecordedPicture> pictures;  ///< in order
  bool indexed = true;                    ///< false: a plain folder, its pictures in the order of their names

  size_t size() const { return pictures.size(); }
  std::string path(size_t index) const { return folder + "/" + pictures[index].file; }
};

/// A folder without an index is taken as it is: its .png, .jpg and .tif files in the order of their names,
/// numbers within them as numbers, without times. Throws Error{bad_file} when there is neither an index nor
/// a picture, the index is broken, or a picture it names is missing.
Recording load_recording(const std::string& folder);

/// Writes the index; the pictures are already there.
void save_recording(const Recording& recording);

}  // namespace heron
