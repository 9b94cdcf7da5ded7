fn main() {
    // The console is embedded by a macro, which does not see new files.
    println!("cargo::rerun-if-changed=../../console/dist");
}
