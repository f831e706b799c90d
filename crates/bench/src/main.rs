//! Measures what the house promises. `cargo xtask bench` builds and runs it.

mod report;
mod rigs;
mod stage;

fn main() {
    println!("{}", report::table(&stage::measure()));
}
