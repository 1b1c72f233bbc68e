#pragma once
#include <optional>
#include <string>
#include <vector>

#include "heron/files/mapping_file.hpp"
#include "steps.hpp"

namespace heron::tool {

/// Everything `calibrate` may be told; each way of calibrating uses its share.
struct CalibrateOptions {
  std::vector<std::string> pictures;
  std::string board, output, picture, sigma_map, residual_plot;
  bool plot_data = false;
  BoardShape shape;
  bool lens = false;
  std::string lens_from, plane;
  std::string length, distance, from, to, size;
  double sigma_px = 0.5;
  std::string sigma_length, sigma_distance;
  std::string points, model, handed;
  double tolerance_px = 1, tolerance_mm = 1;
  std::string touched, wrist;
  std::string hand_eye, mount = "arm", rotation;
  bool radians = false;
  std::string check;
  std::string anchor, transfer;
  double mark_height = 0;
  bool free_motion = false;
  bool replace = false, json = false;
};

int calibrate_board(const CalibrateOptions& o);
int calibrate_lens(const CalibrateOptions& o);
int calibrate_length(const CalibrateOptions& o);
int calibrate_points(const CalibrateOptions& o);
int calibrate_touched(const CalibrateOptions& o);
int calibrate_wrist(const CalibrateOptions& o);
int solve_hand_eye(const CalibrateOptions& o);
/// The ring marks in a picture of the mapping's size; nothing, with the reason on standard error, when the
/// mapping has marks and none of them is seen.
std::optional<std::vector<RingSeen>> anchored_rings_in(const std::string& path, const MappingRecord& record);

int anchor_rings(const CalibrateOptions& o);
int transfer_along_marks(const CalibrateOptions& o);
int check_calibration(const CalibrateOptions& o);

/// Writes the mapping; where one stands already, its axes are kept, what changes is said (on standard error),
/// and one that is clearly worse takes its place only with `replace`. Throws Error{not_writable} otherwise.
void save_with_care(const std::string& path, MappingRecord record, bool replace);

/// The sigma of x and y at the middle of the picture.
std::optional<double> sigma_at_middle(const MappingRecord& record);
/// For people: "0.0123 mm" or "unknown".
std::string sigma_text(const std::optional<double>& sigma_mm);

/// Pictures that were asked for: residuals, map of the sigma.
void draw_what_was_asked(const CalibrateOptions& o, const MappingRecord& record);

/// Width and height from --size or the first picture.
std::pair<int, int> picture_size(const CalibrateOptions& o);

}  // namespace heron::tool
