#include "robot_memory.hpp"

#include <fmt/format.h>

#include <filesystem>
#include <nlohmann/json.hpp>
#include <sstream>

#include "heron/base/error.hpp"
#include "heron/files/atomic_file.hpp"

namespace heron {
namespace {

using text_protocol::Field;
using text_protocol::Part;
using MemoryJson = nlohmann::ordered_json;

MemoryJson json_of_part(const Part& p) {
  MemoryJson values = MemoryJson::array();
  for (const auto& v : p.values) values.push_back(v ? MemoryJson(*v) : MemoryJson(nullptr));
  return {{"number", p.number}, {"index", p.index}, {"name", p.name}, {"values", values}};
}

Part part_in(const MemoryJson& j) {
  Part p{j.at("number"), j.at("index"), j.at("name")};
  for (size_t i = 0; i < p.values.size(); ++i)
    if (const MemoryJson& v = j.at("values").at(i); !v.is_null()) p.values[i] = v.get<double>();
  return p;
}

}  // namespace

RobotMemory::RobotMemory(const std::string& file) {
  if (file.empty()) return;
  if (std::filesystem::exists(file)) {
    std::istringstream lines(read_file(file));
    for (std::string line; std::getline(lines, line);) try {
        apply(line);
      } catch (const std::exception& error) {
        if (lines.eof()) break;  // it was written when the power went
        fail_file({.file = file}, fmt::format("is no robot's memory: '{}' ({})", line, error.what()));
      }
  }
  file_.emplace(file);
}

void RobotMemory::note(const std::string& line) {
  if (file_)
    if (const std::string why = file_->append(line); !why.empty())
      throw Error(ErrorCode::not_writable, fmt::format("robot: its memory cannot be written: {}", why));
  apply(line);
}

void RobotMemory::apply(const std::string& line) {
  const MemoryJson j = MemoryJson::parse(line);
  if (j.contains("session")) {
    session_ = j["session"];
    newest_ = asked_ = 0, newest_part_ = 0, newest_done_ = false;
    left_.clear();
  } else if (j.contains("result")) {
    newest_ = j["result"], newest_done_ = false;
    left_.clear();
    for (const MemoryJson& part : j.at("parts")) left_.push_back(part_in(part));
  } else if (j.contains("part")) {
    left_ = {part_in(j["part"])};
    asked_ = left_[0].number, newest_part_ = left_[0].index;
  } else if (j.contains("went")) {
    if (!left_.empty()) left_.erase(left_.begin());
  } else {
    newest_ = j.at("finished"), newest_done_ = true;
  }
}

void RobotMemory::begin_session(const std::string& session) { note(MemoryJson{{"session", session}}.dump()); }

void RobotMemory::take(uint64_t result, const std::vector<Part>& parts) {
  MemoryJson all = MemoryJson::array();
  for (const Part& part : parts) all.push_back(json_of_part(part));
  note(MemoryJson{{"result", result}, {"parts", all}}.dump());
}

void RobotMemory::take_part(const Part& part) { note(MemoryJson{{"part", json_of_part(part)}}.dump()); }

void RobotMemory::went() {
  if (left_.empty()) return;
  note(MemoryJson{{"went", {left_[0].number, left_[0].index}}}.dump());
}

void RobotMemory::finish(uint64_t result) { note(MemoryJson{{"finished", result}}.dump()); }

}  // namespace heron
