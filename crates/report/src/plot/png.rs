//! A plot as a picture of pixels.

use std::sync::Arc;

use resvg::tiny_skia::{Pixmap, Transform};
use resvg::usvg::{Options, Tree, fontdb};

/// How many pixels there are for each unit of a drawing.
const SCALE: f32 = 2.0;

/// Why a plot could not be made a picture.
#[derive(Debug, thiserror::Error)]
pub enum PngError {
    /// There is no font to write names with.
    #[error("this machine has no font to draw text with")]
    NoFont,
    /// The drawing is none.
    #[error("failed to draw a plot")]
    Drawing(#[from] resvg::usvg::Error),
    /// The picture could not be made.
    #[error("failed to make a picture: {0}")]
    Picture(String),
}

/// What turns drawings into pictures, with the fonts of this machine.
pub struct Painter {
    fonts: Arc<fontdb::Database>,
}

impl Painter {
    /// Looks for fonts.
    ///
    /// # Errors
    /// When there is none.
    pub fn new() -> Result<Self, PngError> {
        let mut fonts = fontdb::Database::new();
        fonts.load_system_fonts();
        if fonts.is_empty() {
            return Err(PngError::NoFont);
        }
        // Whatever sans-serif there is, where none of the usual names is.
        let named = |name: &str| fonts.faces().any(|it| it.families.iter().any(|f| f.0 == name));
        let usual = ["DejaVu Sans", "Liberation Sans", "Noto Sans"];
        let first = fonts.faces().next().and_then(|it| it.families.first()).map(|it| it.0.clone());
        let name = usual.into_iter().find(|it| named(it)).map(str::to_owned).or(first);
        fonts.set_sans_serif_family(name.unwrap_or_default());
        Ok(Self { fonts: Arc::new(fonts) })
    }

    /// The picture of a drawing, as PNG.
    ///
    /// # Errors
    /// When the drawing is malformed.
    pub fn png(&self, svg: &str) -> Result<Vec<u8>, PngError> {
        let options = Options { fontdb: Arc::clone(&self.fonts), ..Options::default() };
        let tree = Tree::from_str(svg, &options)?;
        let size = tree.size();
        let (width, height) = ((size.width() * SCALE) as u32, (size.height() * SCALE) as u32);
        let failed = || PngError::Picture(format!("it would have {width} by {height} pixels"));
        let mut pixels = Pixmap::new(width, height).ok_or_else(failed)?;
        resvg::render(&tree, Transform::from_scale(SCALE, SCALE), &mut pixels.as_mut());
        pixels.encode_png().map_err(|error| PngError::Picture(error.to_string()))
    }
}
