#include <fmt/format.h>

#include <filesystem>

#include "commands.hpp"
#include "heron/draw/board_sheet.hpp"
#include "heron/files/atomic_file.hpp"
#include "options.hpp"

namespace heron::tool {

void add_board(CLI::App& app, Action& action) {
  struct BoardOptions {
    std::string kind = "dots", output;
    BoardShape shape;
    double dpi = 300;
  };
  auto o = std::make_shared<BoardOptions>();
  CLI::App* c = app.add_subcommand("board", "Draws a calibration board to print, true to size");
  c->add_option("--kind", o->kind, "dots or checker")->capture_default_str();
  c->add_option("--columns", o->shape.columns, "dots, or inner corners, along X")->capture_default_str();
  c->add_option("--rows", o->shape.rows, "dots, or inner corners, along Y")->capture_default_str();
  c->add_option("--pitch", o->shape.pitch_mm, "millimetres from one to the next")->capture_default_str();
  c->add_option("--output", o->output, "FILE.pdf, FILE.svg or FILE.png")->required();
  c->add_option("--dpi", o->dpi, "dots per inch of a PNG")->capture_default_str();
  c->footer(
      "Example: heron board --kind dots --columns 13 --rows 11 --pitch 18 --output board.pdf\nPrint at 100 "
      "%, then measure the bar at its foot.");
  c->callback([o, &action] {
    action = [o] {
      o->shape.kind = parse_board_kind(o->kind);
      write_file(o->output,
                 board_sheet(o->shape, std::filesystem::path(o->output).extension().string(), o->dpi));
      fmt::print("{}: {} {} x {}, pitch {:g} mm\n", o->output, o->kind, o->shape.columns, o->shape.rows,
                 o->shape.pitch_mm);
      return 0;
    };
  });
}

}  // namespace heron::tool
