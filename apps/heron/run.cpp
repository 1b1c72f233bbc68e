#include <fmt/format.h>

#include <filesystem>

#include "any_camera.hpp"
#include "commands.hpp"
#include "heron/base/error.hpp"
#include "heron/draw/overlay.hpp"
#include "heron/files/atomic_file.hpp"
#include "heron/files/picture_file.hpp"
#include "heron/files/report_json.hpp"
#include "heron/station/station.hpp"
#include "steps.hpp"

namespace heron::tool {

void add_run(CLI::App& app, Action& action) {
  struct RunOptions {
    std::string station, reports, pictures;
    bool json = false;
  };
  auto o = std::make_shared<RunOptions>();
  CLI::App* c = app.add_subcommand("run", "Runs a station: takes pictures, finds parts, tells the robot");
  c->add_option("station", o->station, "station file")->required();
  c->add_option("--reports", o->reports, "writes all reports, JSON Lines");
  c->add_option("--pictures", o->pictures, "a folder for each picture with what was found");
  c->add_flag("--json", o->json, "one JSON object a picture");
  c->footer(
      "Example: heron simulate robot --listen 127.0.0.1:5017 --truth truth.json &\n         heron run "
      "station.toml\nExit status 1 when a picture holds no part.");
  c->callback([o, &action] {
    action = [o] {
      StationFile file = load_station(o->station);
      auto camera = file.camera.starts_with("recording:") ? nullptr : open_any_camera(file.camera);
      Station station(std::move(file), std::move(camera));
      if (!o->pictures.empty()) std::filesystem::create_directories(o->pictures);
      fmt::print(stderr, "heron: run: {}: {} {}\n", station.file().name,
                 station.file().link.listens ? "waiting for the robot at" : "connecting to",
                 station.file().link.address.text());
      station.open_link();
      std::string reports;
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
        reports += report_json(*report) + "\n";
        if (!o->reports.empty()) write_file(o->reports, reports);
        if (!o->pictures.empty())
          save_picture(
              (std::filesystem::path(o->pictures) / fmt::format("{:04}.png", report->number)).string(),
              draw_report(grey_levels(station.picture()), *report));
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
