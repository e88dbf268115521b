//! Prints what the headers of recordings say: `cargo run -p tonemap-media --example list -- FILE…`.

use tonemap_media::{Block, TakeReader};

fn main() -> Result<(), tonemap_media::Error> {
    for name in std::env::args().skip(1) {
        let mut reader = TakeReader::open(name.as_ref())?;
        let mut block = Block::default();
        while reader.read(&mut block)? {}
        let info = reader.info();
        println!(
            "{name}: {}, {}, {} Hz, {} channels, {} frames",
            info.container,
            info.codec,
            info.sample_rate_hz,
            info.channels,
            reader.position()
        );
    }
    Ok(())
}
