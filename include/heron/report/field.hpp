#pragma once
#include <string>
#include <variant>
#include <vector>

#include "heron/report/report.hpp"

namespace heron {

/// What a receiver may be sent, by name. Nothing where it is not known, or where there is no such thing: the
/// angle of a disc, a gauge that was not measured. Absence never becomes a number.
using FieldValue = std::variant<std::monostate, double, std::string>;

/// A report and what is known of it when it is sent.
struct SentReport {
  const Report& report;
  int64_t age_ms = 0;         ///< since its picture was taken
  std::vector<size_t> parts;  ///< indices of the parts that are sent, in their order
};
/// The parts that are not withheld and have a place in the robot's frame.
SentReport sent_of(const Report& report, int64_t age_ms);

struct FieldInfo {
  const char* name;
  const char* what;    ///< for people, with its unit
  bool whole = false;  ///< a whole number
  bool text = false;
};
/// Fields of a whole report.
const std::vector<FieldInfo>& report_fields();
/// Fields of a part. A name that ends with a dot stands for many: "reading." and a gauge's name.
const std::vector<FieldInfo>& part_fields();

/// The entry for `name` in one of these lists; null when there is none.
const FieldInfo* field_info(const std::vector<FieldInfo>& fields, const std::string& name);

/// Their names, for people: "x, y, reading.GAUGE".
std::string names_of(const std::vector<FieldInfo>& fields);

/// A field of the whole report, and of the part that is sent as number `index`, from 0. Throws
/// Error{invalid_argument} for a name that is not in its list.
FieldValue field_of(const SentReport& sent, const std::string& name);
FieldValue field_of(const SentReport& sent, size_t index, const std::string& name);

}  // namespace heron
