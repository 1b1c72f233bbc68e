#include <fmt/format.h>

#include <filesystem>

#include "any_camera.hpp"
#include "commands.hpp"
#include "heron/base/error.hpp"
#include "heron/draw/overlay.hpp"
#include "heron/files/line_log.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/report_json.hpp"
#include "heron/station/station.hpp"
#include "options.hpp"
#include "steps.hpp"

namespace heron::tool {

void add_run(CLI::App& app, Action& action) {
  struct RunOptions {
    std::string station, reports, pictures;
    uint64_t keep = 1000;
    bool json = false;
  };
  auto o = std::make_shared<RunOptions>();
  CLI::App* c = app.add_subcommand("run", "Runs a station: takes pictures, finds parts, tells the robot");
  c->add_option("station", o->station, "station file")->required();
  c->add_option("--reports", o->reports, "appends a report a picture to this file, JSON Lines");
  c->add_option("--pictures", o->pictures, "a folder for the pictures with what was found drawn");
  c->add_option("--keep-pictures", o->keep,
                "how many of the newest pictures that folder keeps; older ones go")
      ->capture_default_str()
      ->check(not_negative);
  c->add_flag("--json", o->json, "one JSON object a picture");
  c->footer(
      "Example: heron simulate robot --listen 127.0.0.1:5017 --truth truth.json &\n         heron run "
      "station.toml\nExit status 1 when a picture holds no part.");
  c->callback([o, &action] {
    action = [o] {
      StationFile file = load_station(o->station);
      require_not_read({o->reports}, {o->station, file.mapping});
      auto camera = file.camera.starts_with("recording:") ? nullptr : open_any_camera(file.camera);
      Station station(std::move(file), std::move(camera));
      if (!o->pictures.empty()) std::filesystem::create_directories(o->pictures);
      const auto picture_name = [&](uint64_t number) {
        return (std::filesystem::path(o->pictures) / fmt::format("{:06}.png", number)).string();
      };
      std::optional<LineLog> log;
      if (!o->reports.empty()) log.emplace(o->reports);
      fmt::print(stderr, "heron: run: {}: {} {}\n", station.file().name,
                 station.file().link.listens ? "waiting for the robot at" : "connecting to",
                 station.file().link.address.text());
      station.open_link();
      int pictures = 0, parts = 0;
      bool nothing = false;
      while (const std::optional<Report> report = station.step()) {
        ++pictures;
        parts += static_cast<int>(report->parts.size());
        nothing = nothing || report->parts.empty();
        if (o->json)
          fmt::print("{}\n", report_json(*report));
        else
          print_report(*report);
        std::fflush(stdout);
        if (log)
          if (const std::string why = log->append(report_json(*report)); !why.empty())
            fmt::print(stderr, "heron: run: {}: {}; the log ends here, the station goes on\n", o->reports,
                       why);
        if (!o->pictures.empty()) {
          save_picture(picture_name(report->number), draw_report(grey_levels(station.picture()), *report));
          std::error_code none;
          if (report->number > o->keep) std::filesystem::remove(picture_name(report->number - o->keep), none);
        }
      }
      fmt::print(stderr,
                 "heron: run: {} pictures, {} parts, every result acknowledged; {} sent again, {} lines not "
                 "understood\n",
                 pictures, parts, station.link()->repeats(), station.link()->refused_lines());
      if (station.unfinished() > 0)
        fmt::print(stderr, "heron: run: note: {} results were acknowledged but never reported DONE\n",
                   station.unfinished());
      return nothing ? 1 : 0;
    };
  });
}

}  // namespace heron::tool
