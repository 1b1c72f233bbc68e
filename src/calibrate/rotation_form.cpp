#include <algorithm>
#include <cmath>

#include "heron/base/error.hpp"
#include "heron/calibrate/hand_eye.hpp"

namespace heron {
namespace {

struct Named {
  RotationForm form;
  const char* name;
};

constexpr Named names[] = {
    {RotationForm::quaternion_wxyz, "quaternion-wxyz"},
    {RotationForm::quaternion_xyzw, "quaternion-xyzw"},
    {RotationForm::rotation_vector, "rotation-vector"},
    {RotationForm::xyz, "xyz"},
    {RotationForm::xzy, "xzy"},
    {RotationForm::yxz, "yxz"},
    {RotationForm::yzx, "yzx"},
    {RotationForm::zxy, "zxy"},
    {RotationForm::zyx, "zyx"},
    {RotationForm::xyx, "xyx"},
    {RotationForm::xzx, "xzx"},
    {RotationForm::yxy, "yxy"},
    {RotationForm::yzy, "yzy"},
    {RotationForm::zxz, "zxz"},
    {RotationForm::zyz, "zyz"},
};

}  // namespace

std::optional<RotationForm> rotation_form(const std::string& name) {
  for (const Named& n : names)
    if (name == n.name) return n.form;
  return std::nullopt;
}

std::string name_of(RotationForm form) {
  return std::find_if(std::begin(names), std::end(names), [&](const Named& n) { return n.form == form; })
      ->name;
}

const std::vector<RotationForm>& all_rotation_forms() {
  static const std::vector<RotationForm> all = [] {
    std::vector<RotationForm> list;
    for (const Named& n : names) list.push_back(n.form);
    return list;
  }();
  return all;
}

size_t numbers_in(RotationForm form) {
  return form == RotationForm::quaternion_wxyz || form == RotationForm::quaternion_xyzw ? 4 : 3;
}

std::vector<std::string> columns_of(RotationForm form) {
  if (form == RotationForm::quaternion_wxyz) return {"qw", "qx", "qy", "qz"};
  if (form == RotationForm::quaternion_xyzw) return {"qx", "qy", "qz", "qw"};
  if (form == RotationForm::rotation_vector) return {"rx", "ry", "rz"};
  std::vector<std::string> columns;
  for (const char axis : name_of(form)) {
    std::string column{'r', axis};
    if (!columns.empty() && columns[0] == column) column += '2';
    columns.push_back(column);
  }
  return columns;
}

std::optional<Eigen::Quaterniond> rotation_of(RotationForm form, const std::vector<double>& v,
                                              bool in_degrees) {
  if (v.size() != numbers_in(form) ||
      !std::all_of(v.begin(), v.end(), [](double d) { return std::isfinite(d); }))
    return std::nullopt;
  if (v.size() == 4) {
    const Eigen::Quaterniond q = form == RotationForm::quaternion_wxyz
                                     ? Eigen::Quaterniond(v[0], v[1], v[2], v[3])
                                     : Eigen::Quaterniond(v[3], v[0], v[1], v[2]);
    if (std::abs(q.norm() - 1) > 0.01) return std::nullopt;
    return q.normalized();
  }
  const double unit = in_degrees ? degrees(1).radians() : 1;
  if (form == RotationForm::rotation_vector) return turn_of(Eigen::Vector3d(v[0], v[1], v[2]) * unit);
  Eigen::Quaterniond q = Eigen::Quaterniond::Identity();
  const std::string letters = name_of(form);
  for (size_t i = 0; i < 3; ++i)
    q = q * Eigen::AngleAxisd(v[i] * unit, Eigen::Vector3d::Unit(letters[i] - 'x'));
  return q;
}

std::optional<Pose3> pose_of(const RobotPoseRow& row, const RobotPoseReading& reading) {
  const auto rotation = rotation_of(reading.form, row.rotation, reading.in_degrees);
  if (!rotation || !row.position.allFinite()) return std::nullopt;
  const Pose3 pose{*rotation, row.position * reading.mm_per_unit};
  return reading.inverted ? pose.inverse() : pose;
}

std::string words_of(const RobotPoseReading& r) {
  std::string words = name_of(r.form);
  if (numbers_in(r.form) == 3) words += r.in_degrees ? " in degrees" : " in radians";
  if (r.mm_per_unit == 1000) words += ", positions in metres (times 1000)";
  if (r.mm_per_unit == 25.4) words += ", positions in inches (times 25.4)";
  if (r.inverted) words += ", each pose inverted (flange_from_base)";
  return words;
}

}  // namespace heron
