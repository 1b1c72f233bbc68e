#include "heron/files/mapping_file.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <cmath>

#include "heron/base/error.hpp"
#include "heron/files/atomic_file.hpp"
#include "heron/files/toml_file.hpp"

namespace heron {
namespace {

constexpr int mapping_version = 1;

std::string list_of(const std::vector<double>& values) {
  std::vector<std::string> texts;
  for (double v : values) texts.push_back(toml_number(v));
  return fmt::format("[{}]", fmt::join(texts, ", "));
}

template <class Matrix>
std::string rows_of(const Matrix& m) {
  std::string text = "[\n";
  for (Eigen::Index i = 0; i < m.rows(); ++i) {
    std::vector<double> row;
    for (Eigen::Index j = 0; j < m.cols(); ++j) row.push_back(m(i, j));
    text += "  " + list_of(row) + ",\n";
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

std::string text_of(const PlaneMapping& plane) {
  return "# takes (x, y, 1) in millimetres to (u, v, 1) in pixels\npixel_from_world = " +
         rows_of(plane.matrix()) +
         "\n# of its first eight elements, row by row; the last is 1\ncovariance = " +
         rows_of(plane.covariance()) + "\n";
}

std::string text_of(const CameraMapping& mapping) {
  const CameraModel& c = mapping.camera();
  const Eigen::Quaterniond& q = c.camera_from_world.rotation;
  const Eigen::Vector3d& p = c.camera_from_world.position;
  return fmt::format(
      "focal_px = {}\nprincipal_px = {}\nradial = {}  # of r^2, r^4, r^6\ntangential = {}\n"
      "# camera_from_world: camera axes x right, y down, z forward\nrotation = {}  # quaternion w, x, y, "
      "z\nposition_mm = {}\n"
      "# of focal x and y, principal x and y, radial 1 and 2, tangential 1 and 2, radial 3, a turn of the "
      "camera "
      "(radians) and a shift (mm), both in the camera's axes\ncovariance = {}\n",
      list_of({c.lens.fx, c.lens.fy}), list_of({c.lens.cx, c.lens.cy}),
      list_of({c.lens.k1, c.lens.k2, c.lens.k3}), list_of({c.lens.p1, c.lens.p2}),
      list_of({q.w(), q.x(), q.y(), q.z()}), list_of({p.x(), p.y(), p.z()}), rows_of(mapping.covariance()));
}

Mapping plane_of(const TomlTable& file) {
  const Homography h = square<3>(file, "pixel_from_world");
  const PlaneMapping::Covariance covariance = square<8>(file, "covariance");
  if (h(2, 2) == 0 || std::abs(h.determinant()) < 1e-15)
    file.refuse("pixel_from_world", "cannot be inverted, or its last element is 0");
  return PlaneMapping(h, covariance);
}

Mapping camera_of(const TomlTable& file) {
  const auto focal = file.numbers("focal_px", 2), principal = file.numbers("principal_px", 2),
             radial = file.numbers("radial", 3), tangential = file.numbers("tangential", 2);
  const auto q = file.numbers("rotation", 4), p = file.numbers("position_mm", 3);
  if (!(focal[0] > 0 && focal[1] > 0)) file.refuse("focal_px", "must be above 0");
  CameraModel camera;
  camera.lens = {.fx = focal[0],
                 .fy = focal[1],
                 .cx = principal[0],
                 .cy = principal[1],
                 .k1 = radial[0],
                 .k2 = radial[1],
                 .k3 = radial[2],
                 .p1 = tangential[0],
                 .p2 = tangential[1]};
  camera.camera_from_world = {Eigen::Quaterniond(q[0], q[1], q[2], q[3]), {p[0], p[1], p[2]}};
  if (std::abs(camera.camera_from_world.rotation.norm() - 1) > 1e-6)
    file.refuse("rotation", "must be a quaternion of length 1: w, x, y, z");
  return CameraMapping(camera, square<CameraMapping::parameter_count>(file, "covariance"));
}

Axes axes_of(const TomlTable& table) {
  const auto zero = table.numbers("zero_mm", 2);
  Axes axes{{zero[0], zero[1]},
            *axis_direction(table.word("x", {"+X", "-X", "+Y", "-Y"})),
            *axis_direction(table.word("y", {"+X", "-X", "+Y", "-Y"}))};
  try {
    axes.require_valid();
  } catch (const Error& error) {
    table.refuse("y", error.what());
  }
  table.done();
  return axes;
}

std::string text_of(const std::vector<RingAnchor>& anchors) {
  std::string text =
      "\n# ring marks that lie flat on table or carrier and carry the mapping along: identity, x, y (mm), "
      "angle "
      "(degrees), diameter,\n# height (mm), then the sigmas of x and y, angle, diameter\n[marks]\nrings = "
      "[\n";
  for (const RingAnchor& a : anchors)
    text += "  " +
            list_of({static_cast<double>(a.identity), a.place_mm.x, a.place_mm.y, a.angle.degrees(),
                     a.diameter_mm, a.height_mm, a.sigma_mm, a.sigma_angle.degrees(), a.sigma_diameter_mm}) +
            ",\n";
  return text + "]\n";
}

std::vector<RingAnchor> anchors_of(const TomlTable& table) {
  std::vector<RingAnchor> anchors;
  for (const auto& r : table.rows("rings", 9)) {
    if (!(r[0] >= 1 && r[0] <= RingShape::identities) || r[0] != std::floor(r[0]))
      table.refuse("rings",
                   fmt::format("has an identity of {:g}; there are 1 to {}", r[0], RingShape::identities));
    if (!(r[4] > 0) || r[6] < 0 || r[7] < 0 || r[8] < 0)
      table.refuse("rings", "needs diameters above 0 and sigmas of at least 0");
    anchors.push_back({static_cast<int>(r[0]),
                       {r[1], r[2]},
                       WorldAngle(degrees(r[3])),
                       r[4],
                       r[5],
                       r[6],
                       r[8],
                       degrees(r[7])});
  }
  table.done();
  return anchors;
}

}  // namespace

const char* name_of(AxisDirection d) {
  return d == AxisDirection::plus_x    ? "+X"
         : d == AxisDirection::minus_x ? "-X"
         : d == AxisDirection::plus_y  ? "+Y"
                                       : "-Y";
}

std::optional<AxisDirection> axis_direction(const std::string& name) {
  for (const AxisDirection d :
       {AxisDirection::plus_x, AxisDirection::minus_x, AxisDirection::plus_y, AxisDirection::minus_y})
    if (name == name_of(d)) return d;
  return std::nullopt;
}

MappingRecord record_of(const PlaneCalibration& c) {
  MappingRecord r;
  r.mapping = c.mapping;
  r.rms_px = c.rms_px, r.sigma_px = c.sigma_px, r.largest_mm = c.largest_mm,
  r.distortion_px = c.distortion_px;
  r.points = c.points;
  return r;
}

void save_mapping(const std::string& path, const MappingRecord& r) {
  std::vector<std::string> pictures;
  for (const std::string& name : r.pictures) pictures.push_back(toml_text(name));
  std::string text = fmt::format(
      "# Able Heron mapping: pixel to millimetres.\n"
      "version = {}\nkind = \"{}\"\nmade_from = {}\nworld = {}  # whose frame x and y are in\ndate = "
      "{}\npictures = [{}]\npicture_size = [{}, {}]\nrms_px = "
      "{}\nsigma_px = {}  # of one coordinate of one point\nlargest_mm = {}\ndistortion_px = {}  # what the "
      "lens bends at the corner, if anything, and the mapping does not hold\n\n",
      mapping_version, r.mapping.camera() ? "camera" : "plane", toml_text(r.made_from), toml_text(r.world),
      toml_text(r.date), fmt::join(pictures, ", "), r.width, r.height, toml_number(r.rms_px),
      toml_number(r.sigma_px), toml_number(r.largest_mm), toml_number(r.distortion_px));
  text += r.mapping.camera() ? text_of(*r.mapping.camera()) : text_of(*r.mapping.plane());
  text +=
      "\n# u, v in pixels; x, y in millimetres; residuals in pixels, seen minus mapped; number of the "
      "picture\npoints = [\n";
  for (const MappedPoint& p : r.points)
    text += "  " +
            list_of({p.pixel.x, p.pixel.y, p.world_mm.x, p.world_mm.y, p.residual_px.x, p.residual_px.y,
                     static_cast<double>(p.view)}) +
            ",\n";
  text += "]\n";
  if (r.board)
    text += fmt::format("\n[board]\nkind = \"{}\"\ncolumns = {}\nrows = {}\npitch_mm = {}\n",
                        r.board->kind == BoardKind::dots ? "dots" : "checker", r.board->columns,
                        r.board->rows, toml_number(r.board->pitch_mm));
  if (r.axes)
    text += fmt::format(
        "\n# the user's zero in the world above, and which way the user's axes point there\n[axes]\nzero_mm "
        "= {}\nx = \"{}\"\ny = \"{}\"\n",
        list_of({r.axes->zero_mm.x, r.axes->zero_mm.y}), name_of(r.axes->x), name_of(r.axes->y));
  if (!r.anchors.empty()) text += text_of(r.anchors);
  write_file(path, text);
}

MappingRecord load_mapping(const std::string& path) {
  const TomlTable file = TomlTable::load(path, mapping_version);
  MappingRecord r;
  r.mapping = file.word("kind", {"plane", "camera"}) == "plane" ? plane_of(file) : camera_of(file);
  r.made_from = file.text("made_from", "board");
  r.world = file.text("world", "board");
  r.date = file.text("date");
  r.pictures = file.texts("pictures");
  const auto size = file.numbers("picture_size", 2);
  for (const double s : size)
    if (!(s >= 1 && s <= 1e6)) file.refuse("picture_size", "must be [WIDTH, HEIGHT] in pixels");
  r.width = static_cast<int>(size[0]), r.height = static_cast<int>(size[1]);
  r.rms_px = file.number("rms_px");
  r.sigma_px = file.number("sigma_px");
  r.largest_mm = file.number("largest_mm", 0);
  r.distortion_px = file.number("distortion_px", 0);
  for (const auto& p : file.rows("points", 7)) {
    if (!(p[6] >= 0 && p[6] <= 1e6)) file.refuse("points", "must end with the number of a picture, from 0");
    r.points.push_back({{p[0], p[1]}, {p[2], p[3]}, {p[4], p[5]}, static_cast<int>(p[6])});
  }
  if (const auto board = file.optional_table("board")) {
    r.board.emplace();
    r.board->kind = board->word("kind", {"dots", "checker"}) == "dots" ? BoardKind::dots : BoardKind::checker;
    r.board->columns = board->whole("columns"), r.board->rows = board->whole("rows"),
    r.board->pitch_mm = board->number("pitch_mm");
    board->done();
  }
  if (const auto axes = file.optional_table("axes")) r.axes = axes_of(*axes);
  if (const auto marks = file.optional_table("marks")) r.anchors = anchors_of(*marks);
  file.done();
  return r;
}

}  // namespace heron
