#include "heron/files/mapping_file.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "heron/files/atomic_file.hpp"
#include "heron/files/toml_file.hpp"

namespace heron {
namespace {

constexpr int version = 1;

std::string row_of(const std::vector<double>& values) {
  std::vector<std::string> texts;
  for (double v : values) texts.push_back(toml_number(v));
  return fmt::format("  [{}],\n", fmt::join(texts, ", "));
}

template <class Matrix>
std::string rows_of(const Matrix& m) {
  std::string text = "[\n";
  for (Eigen::Index i = 0; i < m.rows(); ++i) {
    std::vector<double> row;
    for (Eigen::Index j = 0; j < m.cols(); ++j) row.push_back(m(i, j));
    text += row_of(row);
  }
  return text + "]";
}

template <int Size>
Eigen::Matrix<double, Size, Size> square(const TomlTable& file, const std::string& key) {
  const auto rows = file.rows(key, Size);
  if (rows.size() != Size) file.refuse(key, fmt::format("has {} rows; it needs {}", rows.size(), Size));
  Eigen::Matrix<double, Size, Size> m;
  for (int i = 0; i < Size; ++i)
    for (int j = 0; j < Size; ++j) m(i, j) = rows[static_cast<size_t>(i)][static_cast<size_t>(j)];
  return m;
}

}  // namespace

void save_mapping(const std::string& path, const MappingRecord& r) {
  const PlaneCalibration& c = r.calibration;
  std::vector<std::string> pictures;
  for (const std::string& name : r.pictures) pictures.push_back(toml_text(name));
  std::string text = fmt::format(
      "# Able Heron mapping: pixel to millimetres on one plane. pixel_from_world takes (x, y, 1) in "
      "millimetres to (u, v, 1) in pixels.\n"
      "version = {}\nkind = \"plane\"\ndate = {}\npictures = [{}]\npicture_size = [{}, {}]\nrms_px = "
      "{}\nsigma_px = {}  # of one coordinate of one point\nlargest_mm = {}\ndistortion_px = {}  # what the "
      "lens bends at the corner, if anything\n\n",
      version, toml_text(r.date), fmt::join(pictures, ", "), toml_number(r.width), toml_number(r.height),
      toml_number(c.rms_px), toml_number(c.sigma_px), toml_number(c.largest_mm),
      toml_number(c.distortion_px));
  text += "pixel_from_world = " + rows_of(c.mapping.matrix()) + "\n";
  text += "# of its first eight elements, row by row; the last is 1\ncovariance = " +
          rows_of(c.mapping.covariance()) + "\n\n";
  text += "# u, v in pixels; x, y in millimetres; residuals in pixels, seen minus mapped\npoints = [\n";
  for (const PlanePoint& p : c.points)
    text += row_of({p.pixel.x, p.pixel.y, p.world_mm.x, p.world_mm.y, p.residual_px.x, p.residual_px.y});
  text += fmt::format("]\n\n[board]\nkind = \"{}\"\ncolumns = {}\nrows = {}\npitch_mm = {}\n",
                      r.board.kind == BoardKind::dots ? "dots" : "checker", r.board.columns, r.board.rows,
                      toml_number(r.board.pitch_mm));
  write_file(path, text);
}

MappingRecord load_mapping(const std::string& path) {
  const TomlTable file = TomlTable::load(path, version);
  file.word("kind", {"plane"});
  MappingRecord r;
  r.date = file.text("date");
  file.has("pictures");  // names for people
  const auto size = file.numbers("picture_size", 2);
  r.width = static_cast<int>(size[0]), r.height = static_cast<int>(size[1]);
  r.calibration.rms_px = file.number("rms_px");
  r.calibration.sigma_px = file.number("sigma_px");
  r.calibration.largest_mm = file.number("largest_mm", 0);
  r.calibration.distortion_px = file.number("distortion_px", 0);
  const Homography h = square<3>(file, "pixel_from_world");
  const PlaneMapping::Covariance covariance = square<8>(file, "covariance");
  if (h(2, 2) == 0 || std::abs(h.determinant()) < 1e-15)
    file.refuse("pixel_from_world", "cannot be inverted, or its last element is 0");
  r.calibration.mapping = PlaneMapping(h, covariance);
  for (const auto& p : file.rows("points", 6))
    r.calibration.points.push_back({{p[0], p[1]}, {p[2], p[3]}, {p[4], p[5]}});
  const TomlTable board = file.table("board");
  r.board.kind = board.word("kind", {"dots", "checker"}) == "dots" ? BoardKind::dots : BoardKind::checker;
  r.board.columns = board.whole("columns"), r.board.rows = board.whole("rows"),
  r.board.pitch_mm = board.number("pitch_mm");
  board.done();
  file.done();
  return r;
}

}  // namespace heron
