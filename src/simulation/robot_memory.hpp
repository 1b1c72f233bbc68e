#pragma once
#include <optional>
#include <string>
#include <vector>

#include "heron/files/line_log.hpp"
#include "heron/link/text_protocol.hpp"

namespace heron {

/// What a robot's program must know after it was switched off in the middle: the station's session, the
/// newest result and whether it finished with it, and which parts of it are left. With a file, each change is
/// written before it counts, a line of JSON for each.
class RobotMemory {
 public:
  /// Reads what an earlier run left in the file. Throws Error{bad_file}, Error{not_writable}.
  explicit RobotMemory(const std::string& file);

  const std::string& session() const { return session_; }
  uint64_t newest() const { return newest_; }
  bool newest_done() const { return newest_done_; }
  uint64_t asked() const { return asked_; }         ///< the result that `newest_part` belongs to
  int newest_part() const { return newest_part_; }  ///< of the result that is asked for, part by part
  const std::vector<text_protocol::Part>& left() const { return left_; }  ///< to go to

  /// Numbers start anew with another session.
  void begin_session(const std::string& session);
  void take(uint64_t result, const std::vector<text_protocol::Part>& parts);
  void take_part(const text_protocol::Part& part);
  /// The first part that was left is done.
  void went();
  void finish(uint64_t result);

 private:
  void note(const std::string& line);
  void apply(const std::string& line);
  std::string session_;
  uint64_t newest_ = 0, asked_ = 0;
  bool newest_done_ = false;
  int newest_part_ = 0;
  std::vector<text_protocol::Part> left_;
  std::optional<LineLog> file_;
};

}  // namespace heron
