#include "robot_table.hpp"

#include <fmt/format.h>

#include <limits>
#include <nlohmann/json.hpp>

namespace heron::tool {

void print_robot(const RobotLog& log) {
  fmt::print("  {:>6} {:>4}  {:<12} {:>9} {:>9} {:>9}   {:>8} {:>9} {:>8}\n", "result", "part", "name",
             "X mm", "Y mm", "angle deg", "off mm", "off deg", "travel s");
  for (const Arrival& a : log.arrivals) {
    fmt::print("  {:>6} {:>4}  {:<12} {:>9.3f} {:>9.3f} {:>9.3f}   ", a.result, a.index, a.name, a.sent.x,
               a.sent.y, a.sent.angle.degrees());
    if (a.matched)
      fmt::print("{:>8.4f} {:>9.4f} {:>8.2f}\n", a.off_mm, a.off_angle.degrees(), a.travel_s);
    else
      fmt::print("no such part lies there\n");
  }
  fmt::print("  {} results, {} arrivals, {} parts not picked, {} repeats, {} lines not understood{}\n",
             log.results, log.arrivals.size(), log.left_lying, log.repeats, log.refused_lines,
             log.over ? "" : "; the station went away without saying that it is over");
  if (!log.refusal.empty()) fmt::print("  the station said: {}\n", log.refusal);
}

std::string robot_json(const RobotLog& log) {
  nlohmann::ordered_json j{{"results", log.results},
                           {"repeats", log.repeats},
                           {"refused_lines", log.refused_lines},
                           {"left_lying", log.left_lying},
                           {"over", log.over},
                           {"refusal", log.refusal},
                           {"arrivals", nlohmann::ordered_json::array()}};
  for (const Arrival& a : log.arrivals) {
    nlohmann::ordered_json arrival{{"result", a.result},  {"part", a.index},
                                   {"name", a.name},      {"x", a.sent.x},
                                   {"y", a.sent.y},       {"angle", a.sent.angle.degrees()},
                                   {"matched", a.matched}};
    if (a.matched) arrival["off_mm"] = a.off_mm, arrival["off_angle"] = a.off_angle.degrees();
    j["arrivals"].push_back(arrival);
  }
  return j.dump();
}

std::string touched_csv(const RobotLog& log) {
  std::string text = "result,part,x,y\n";
  for (const Arrival& a : log.arrivals)
    if (a.matched) text += fmt::format("{},{},{:.4f},{:.4f}\n", a.result, a.index, a.truth.x, a.truth.y);
  return text;
}

double worst_mm(const RobotLog& log) {
  double worst = 0;
  for (const Arrival& a : log.arrivals)
    worst = std::max(worst, a.matched ? a.off_mm : std::numeric_limits<double>::infinity());
  return worst;
}

}  // namespace heron::tool
