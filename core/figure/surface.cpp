/// Scenes as PNG and PDF, over Cairo and Pango. Both are loaded when a picture is drawn: with what
/// they need they are forty libraries.

#include <cairo-pdf.h>
#include <cairo.h>
#include <pango/pangocairo.h>

#include <cmath>
#include <memory>

#include "base/late_library.hpp"
#include "figure/hatch.hpp"
#include "text/text.hpp"

namespace wexlo::figure {
namespace {

struct Libraries {
  LateLibrary cairo{"libcairo.so.2"};
  LateLibrary pango{"libpango-1.0.so.0"};
  LateLibrary both{"libpangocairo-1.0.so.0"};
  LateLibrary objects{"libgobject-2.0.so.0"};
  WEXLO_LATE(cairo, cairo_create);
  WEXLO_LATE(cairo, cairo_destroy);
  WEXLO_LATE(cairo, cairo_fill);
  WEXLO_LATE(cairo, cairo_image_surface_create);
  WEXLO_LATE(cairo, cairo_line_to);
  WEXLO_LATE(cairo, cairo_move_to);
  WEXLO_LATE(cairo, cairo_pdf_surface_create_for_stream);
  WEXLO_LATE(cairo, cairo_pdf_surface_set_metadata);
  WEXLO_LATE(cairo, cairo_rectangle);
  WEXLO_LATE(cairo, cairo_restore);
  WEXLO_LATE(cairo, cairo_save);
  WEXLO_LATE(cairo, cairo_scale);
  WEXLO_LATE(cairo, cairo_set_dash);
  WEXLO_LATE(cairo, cairo_set_line_width);
  WEXLO_LATE(cairo, cairo_set_source_rgba);
  WEXLO_LATE(cairo, cairo_status);
  WEXLO_LATE(cairo, cairo_status_to_string);
  WEXLO_LATE(cairo, cairo_stroke);
  WEXLO_LATE(cairo, cairo_surface_destroy);
  WEXLO_LATE(cairo, cairo_surface_finish);
  WEXLO_LATE(cairo, cairo_surface_status);
  WEXLO_LATE(cairo, cairo_surface_write_to_png_stream);
  WEXLO_LATE(cairo, cairo_translate);
  WEXLO_LATE(pango, pango_font_description_from_string);
  WEXLO_LATE(pango, pango_font_description_free);
  WEXLO_LATE(pango, pango_font_description_set_absolute_size);
  WEXLO_LATE(pango, pango_font_description_set_weight);
  WEXLO_LATE(pango, pango_layout_get_baseline);
  WEXLO_LATE(pango, pango_layout_get_size);
  WEXLO_LATE(pango, pango_layout_set_font_description);
  WEXLO_LATE(pango, pango_layout_set_text);
  WEXLO_LATE(both, pango_cairo_create_layout);
  WEXLO_LATE(both, pango_cairo_show_layout);
  WEXLO_LATE(objects, g_object_unref);

  [[nodiscard]] Status status() const {
    for (const LateLibrary* one : {&cairo, &pango, &both, &objects})
      WEXLO_CHECK(one->status());
    return {};
  }
};

const Libraries& lib() {
  static const Libraries loaded;
  return loaded;
}

using SurfacePtr = std::unique_ptr<cairo_surface_t, decltype(&::cairo_surface_destroy)>;
using CairoPtr = std::unique_ptr<cairo_t, decltype(&::cairo_destroy)>;

class Painter {
 public:
  explicit Painter(cairo_t* to) : to_(to) {}

  void paint(const Scene& scene) {
    colour({1, 1, 1});
    lib().cairo_rectangle(to_, 0, 0, scene.width, scene.height);
    lib().cairo_fill(to_);
    for (const auto& shape : scene.shapes)
      std::visit([this](const auto& one) { put(one); }, shape);
  }

 private:
  void colour(Colour one, double alpha = 1) {
    lib().cairo_set_source_rgba(to_, one.red, one.green, one.blue, alpha);
  }

  void put(const Box& one) {
    lib().cairo_rectangle(to_, one.x, one.y, one.width, one.height);
    colour(light(one.ink));
    lib().cairo_set_line_width(to_, 1);
    one.filled ? lib().cairo_fill(to_) : lib().cairo_stroke(to_);
    if (one.hatch == Hatch::None) return;
    const bool free = one.ink == Ink::Free;
    for (const Segment& line : hatch_lines(one)) {
      lib().cairo_move_to(to_, line.x1, line.y1);
      lib().cairo_line_to(to_, line.x2, line.y2);
    }
    free ? colour(light(Ink::Line)) : colour({1, 1, 1}, 0.55);
    lib().cairo_set_line_width(to_, free ? 0.7 : 1);
    lib().cairo_stroke(to_);
    if (!free) return;
    lib().cairo_rectangle(to_, one.x, one.y, one.width, one.height);
    lib().cairo_set_line_width(to_, 1);
    lib().cairo_stroke(to_);
  }

  void put(const Stroke& one) {
    bool first = true;
    for (const auto& [x, y] : one.points) {
      first ? lib().cairo_move_to(to_, x, y) : lib().cairo_line_to(to_, x, y);
      first = false;
    }
    constexpr double kDashes[] = {4, 3};
    lib().cairo_set_dash(to_, kDashes, one.dashed ? 2 : 0, 0);
    colour(light(one.ink));
    lib().cairo_set_line_width(to_, one.width);
    lib().cairo_stroke(to_);
    lib().cairo_set_dash(to_, nullptr, 0, 0);
  }

  void put(const Label& one) {
    const std::string text = printable(one.text);
    if (text.empty()) return;
    const std::unique_ptr<PangoLayout, decltype(&::g_object_unref)> layout(
        lib().pango_cairo_create_layout(to_), lib().g_object_unref);
    const std::unique_ptr<PangoFontDescription, decltype(&::pango_font_description_free)> font(
        lib().pango_font_description_from_string("DejaVu Sans"), lib().pango_font_description_free);
    lib().pango_font_description_set_absolute_size(font.get(), one.size * PANGO_SCALE);
    if (one.bold) lib().pango_font_description_set_weight(font.get(), PANGO_WEIGHT_BOLD);
    lib().pango_layout_set_font_description(layout.get(), font.get());
    lib().pango_layout_set_text(layout.get(), text.c_str(), static_cast<int>(text.size()));
    int width = 0, height = 0;
    lib().pango_layout_get_size(layout.get(), &width, &height);
    double wide = static_cast<double>(width) / PANGO_SCALE;
    // Another font than the table was made for must not run into its neighbours.
    const double room = text_width(one.text, one.size, one.bold);
    const double squeeze = wide > room ? room / wide : 1;
    wide *= squeeze;
    const double x = one.anchor == Anchor::Start    ? one.x
                     : one.anchor == Anchor::Middle ? one.x - wide / 2
                                                    : one.x - wide;
    const double base =
        static_cast<double>(lib().pango_layout_get_baseline(layout.get())) / PANGO_SCALE;
    if (one.on_ink)
      colour(dark_enough(one.ink) ? Colour{1, 1, 1} : Colour{0.06, 0.08, 0.1});
    else
      colour(light(one.ink));
    lib().cairo_save(to_);
    lib().cairo_translate(to_, x, one.y - base);
    lib().cairo_scale(to_, squeeze, 1);
    lib().pango_cairo_show_layout(to_, layout.get());
    lib().cairo_restore(to_);
  }

  cairo_t* to_;
};

cairo_status_t collect(void* user, const unsigned char* bytes, unsigned size) {
  auto& out = *static_cast<Bytes*>(user);
  const auto* begin = reinterpret_cast<const std::byte*>(bytes);
  out.insert(out.end(), begin, begin + size);
  return CAIRO_STATUS_SUCCESS;
}

Error failure(cairo_status_t status) {
  return {.code = ErrorCode::Io,
          .message = std::string("cannot draw: ") + lib().cairo_status_to_string(status)};
}

Status paint_on(cairo_surface_t* surface, const Scene& scene, double scale) {
  const CairoPtr context(lib().cairo_create(surface), lib().cairo_destroy);
  lib().cairo_scale(context.get(), scale, scale);
  Painter(context.get()).paint(scene);
  if (const auto status = lib().cairo_status(context.get()); status != CAIRO_STATUS_SUCCESS)
    return fail(failure(status));
  return {};
}

}  // namespace

Result<Bytes> to_png(const Scene& scene, double scale) {
  WEXLO_CHECK(lib().status());
  constexpr double kMost = 30000;
  if (scene.width * scale > kMost || scene.height * scale > kMost)
    return fail({.code = ErrorCode::LimitExceeded,
                 .message = "the figure is too large for a picture",
                 .hint = "Draw it as SVG or PDF."});
  const SurfacePtr surface(
      lib().cairo_image_surface_create(CAIRO_FORMAT_RGB24, static_cast<int>(scene.width * scale),
                                       static_cast<int>(scene.height * scale)),
      lib().cairo_surface_destroy);
  WEXLO_CHECK(paint_on(surface.get(), scene, scale));
  Bytes out;
  const auto status = lib().cairo_surface_write_to_png_stream(surface.get(), collect, &out);
  if (status != CAIRO_STATUS_SUCCESS) return fail(failure(status));
  return out;
}

Result<Bytes> to_pdf(const Scene& scene) {
  WEXLO_CHECK(lib().status());
  Bytes out;
  {
    const SurfacePtr surface(lib().cairo_pdf_surface_create_for_stream(
                                 collect, &out, scene.width * 0.75, scene.height * 0.75),
                             lib().cairo_surface_destroy);
    lib().cairo_pdf_surface_set_metadata(surface.get(), CAIRO_PDF_METADATA_TITLE,
                                         scene.title.c_str());
    // The same scene gives the same bytes: no clock.
    lib().cairo_pdf_surface_set_metadata(surface.get(), CAIRO_PDF_METADATA_CREATE_DATE,
                                         "2000-01-01T00:00:00Z");
    WEXLO_CHECK(paint_on(surface.get(), scene, 0.75));
    lib().cairo_surface_finish(surface.get());
    if (const auto status = lib().cairo_surface_status(surface.get());
        status != CAIRO_STATUS_SUCCESS)
      return fail(failure(status));
  }
  return out;
}

}  // namespace wexlo::figure
