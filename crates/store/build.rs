fn main() {
    // Migrations are embedded by a macro, which cargo cannot see through.
    println!("cargo::rerun-if-changed=migrations");
}
