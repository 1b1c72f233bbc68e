#pragma once
#include <optional>
#include <string>
#include <string_view>

#include "heron/image/picture.hpp"

namespace heron {

/// Largest picture that is read: 65535 pixels a side and 200 million pixels; checked in the header, before
/// memory is taken.
inline constexpr int max_pixels_a_side = 65535;
inline constexpr double max_pixels = 200e6;

/// Decodes PNG, JPEG or TIFF, recognised by their first bytes. `name` stands in errors. Throws
/// Error{bad_file}.
Picture decode_picture(std::string_view bytes, const std::string& name);

/// Reads PNG, JPEG or TIFF, recognised by their first bytes: grey or color of 8 bit, grey of 16 bit, TIFF of
/// float as a height map. Color of 16 bit comes as 8 bit; transparency is left out. Throws Error{bad_file}
/// when the file is missing, empty, truncated, too large or of another kind, with what was found.
Picture load_picture(const std::string& path);

/// 255 where a PNG picture is not fully transparent, else 0; nothing for a picture without transparency.
std::optional<Image<uint8_t>> load_opaque(const std::string& path);

/// The picture as the bytes of a PNG file. Throws Error{invalid_argument} for a height map.
std::string png_of(const Picture& picture);

/// Writes PNG or TIFF by the path's ending (.png, .tif, .tiff), complete or not at all. A height map needs
/// TIFF. Throws Error{invalid_argument} for another ending, Error{not_writable} when it cannot be written.
void save_picture(const std::string& path, const Picture& picture);
void save_picture(const std::string& path, const ImageView<const uint8_t>& picture);
void save_picture(const std::string& path, const ImageView<const Rgb>& picture);

}  // namespace heron
