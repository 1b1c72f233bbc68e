#pragma once
#include <string>

#include "heron/image/region.hpp"
#include "heron/render/tray_station.hpp"

namespace heron {

/// The tray station as files in a folder: what a camera and a robot would have delivered, and the truth that
/// only the simulated robot reads.
///
/// - board.png: the calibration board on the tray
/// - teach.png: one leaf tile alone
/// - tray/: the recording, pictures of the filled tray
/// - marks.png: the tray with its ring marks alone, when it has some
/// - known.csv: where the taught region's middle lies in them, leaf by leaf
/// - touched.csv: board points that the robot touched
/// - truth.json: where each leaf tile really is
struct TrayCell {
  std::string folder;
  render::TrayStation station;
  Box teach_region;  ///< around the leaf tile of teach.png

  std::string path(const std::string& name) const { return folder + "/" + name; }
};

/// Renders and writes everything; the same seed gives the same bytes of pixels. Throws Error{not_writable}.
TrayCell write_tray_cell(const std::string& folder, uint64_t seed, const render::TrayFilling& filling = {});

}  // namespace heron
