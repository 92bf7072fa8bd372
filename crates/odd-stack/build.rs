//! What Windows is told of the program: that it takes long paths, its texts are UTF-8, and it needs no rights beyond those of
//! whoever starts it.

fn main() {
    println!("cargo:rerun-if-changed=build.rs");
    if std::env::var("CARGO_CFG_TARGET_OS").is_ok_and(|system| system == "windows") {
        let manifest = embed_manifest::new_manifest("Odd.Stack");
        embed_manifest::embed_manifest(manifest)
            .expect("the manifest can't be written into the build's folder");
    }
}
