//! Certificates and keys, as far as their files tell without opening them up.

/// What is wrong with a PEM file at first sight; `None` when nothing is.
pub fn pem_fault(bytes: &[u8], is_key: bool) -> Option<&'static str> {
    let text = String::from_utf8_lossy(bytes);
    if text.trim().is_empty() {
        return Some("the file is empty");
    }
    let label = text.split("-----BEGIN ").skip(1).filter_map(|rest| rest.split_once("-----").map(|(l, _)| l));
    let wanted = if is_key { "PRIVATE KEY" } else { "CERTIFICATE" };
    let mut found = false;
    for name in label {
        if name.ends_with(wanted) || (!is_key && name == "X509 CERTIFICATE") {
            found = true;
            let end = format!("-----END {name}-----");
            if !text.contains(&end) {
                return Some("its end is missing");
            }
        }
    }
    match (found, is_key) {
        (true, _) => None,
        (false, true) => Some("it holds no private key"),
        (false, false) => Some("it holds no certificate"),
    }
}
