#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "heron/base/error.hpp"
#include "heron/files/atomic_file.hpp"
#include "heron/simulation/simulated_robot.hpp"

namespace heron {

using Json = nlohmann::ordered_json;

RobotTruth load_truth(const std::string& path) {
  RobotTruth truth;
  try {
    const Json file = Json::parse(read_file(path, size_t{64} << 20));
    if (file.at("version") != 1) fail_file({path}, "this program reads version 1 of a truth file");
    for (const Json& picture : file.at("pictures")) {
      truth.pictures.emplace_back();
      for (const Json& part : picture.at("parts"))
        truth.pictures.back().push_back({part.at("name").get<std::string>(),
                                         {part.at("x").get<double>(), part.at("y").get<double>(),
                                          degrees(part.at("angle").get<double>())}});
    }
  } catch (const Json::exception& error) {
    fail_file({path}, fmt::format("is no truth file of the simulated cell: {}", error.what()));
  }
  return truth;
}

void save_truth(const std::string& path, const RobotTruth& truth) {
  Json file{{"version", 1}, {"pictures", Json::array()}};
  for (const auto& picture : truth.pictures) {
    Json parts = Json::array();
    for (const TruePart& p : picture)
      parts.push_back({{"name", p.name},
                       {"x", p.robot_from_part.x},
                       {"y", p.robot_from_part.y},
                       {"angle", p.robot_from_part.angle.degrees()}});
    file["pictures"].push_back({{"parts", parts}});
  }
  write_file(path, file.dump(1) + "\n");
}

}  // namespace heron
