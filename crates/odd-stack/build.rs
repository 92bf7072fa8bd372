//! What Windows is told of the program: its icon and version; that it takes long paths, its texts are UTF-8, and it needs no
//! rights beyond those of whoever starts it.

use winresource::WindowsResource;

const MANIFEST: &str = r#"<?xml version="1.0" encoding="UTF-8" standalone="yes"?>
<assembly xmlns="urn:schemas-microsoft-com:asm.v1" manifestVersion="1.0">
  <assemblyIdentity type="win32" name="Odd.Stack" version="1.0.0.0"/>
  <trustInfo xmlns="urn:schemas-microsoft-com:asm.v3">
    <security><requestedPrivileges>
      <requestedExecutionLevel level="asInvoker" uiAccess="false"/>
    </requestedPrivileges></security>
  </trustInfo>
  <compatibility xmlns="urn:schemas-microsoft-com:compatibility.v1">
    <application><supportedOS Id="{8e0f7a12-bfb3-4fe8-b9a5-48fd50a15a9a}"/></application>
  </compatibility>
  <application xmlns="urn:schemas-microsoft-com:asm.v3">
    <windowsSettings>
      <longPathAware xmlns="http://schemas.microsoft.com/SMI/2016/WindowsSettings">true</longPathAware>
      <activeCodePage xmlns="http://schemas.microsoft.com/SMI/2019/WindowsSettings">UTF-8</activeCodePage>
    </windowsSettings>
  </application>
</assembly>
"#;

fn main() {
    println!("cargo:rerun-if-changed=build.rs");
    println!("cargo:rerun-if-changed=icon/icon.ico");
    if std::env::var("CARGO_CFG_TARGET_OS").is_ok_and(|system| system == "windows") {
        let mut resource = WindowsResource::new();
        resource.set_icon("icon/icon.ico").set_manifest(MANIFEST);
        resource
            .set("ProductName", "Odd Stack")
            .set("FileDescription", "Odd Stack: mods and patches as layers");
        resource.set("OriginalFilename", "oddstack.exe").set("LegalCopyright", "MIT OR Apache-2.0");
        resource
            .compile()
            .expect("what Windows is told of the program can't be compiled: a resource compiler is needed");
    }
}
