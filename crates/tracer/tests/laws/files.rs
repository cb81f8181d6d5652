//! Scene files made in memory.

use serde_json::{Value, json};

/// A glTF container of a JSON description and its binary data.
pub fn container(mut json: Value, data: &[u8]) -> Vec<u8> {
    let mut data = data.to_vec();
    data.resize(data.len().next_multiple_of(4), 0);
    json["asset"] = json!({ "version": "2.0" });
    json["buffers"] = json!([{ "byteLength": data.len() }]);
    let mut text = json.to_string().into_bytes();
    text.resize(text.len().next_multiple_of(4), b' ');
    let mut out = b"glTF".to_vec();
    let word = |n: usize| (n as u32).to_le_bytes();
    out.extend([word(2), word(28 + text.len() + data.len()), word(text.len())].concat());
    out.extend(b"JSON");
    out.extend(text);
    out.extend(word(data.len()));
    out.extend(b"BIN\0");
    out.extend(data);
    out
}

/// A quad with a material, in the plane z = 0.
pub fn one_quad(material: Value) -> Vec<u8> {
    let positions: [[f32; 3]; 4] = [[-1.0, -1.0, 0.0], [1.0, -1.0, 0.0], [1.0, 1.0, 0.0], [-1.0, 1.0, 0.0]];
    let mut data: Vec<u8> = positions.iter().flatten().flat_map(|x| x.to_le_bytes()).collect();
    data.extend([0u16, 1, 2, 0, 2, 3].iter().flat_map(|i| i.to_le_bytes()));
    let used: Vec<String> = material["extensions"].as_object().map_or(Vec::new(), |e| e.keys().cloned().collect());
    let json = json!({
        "extensionsUsed": used,
        "scene": 0, "scenes": [{ "nodes": [0] }], "nodes": [{ "mesh": 0 }],
        "meshes": [{ "primitives": [{ "attributes": { "POSITION": 0 }, "indices": 1, "material": 0 }] }],
        "materials": [material],
        "bufferViews": [{ "buffer": 0, "byteOffset": 0, "byteLength": 48 }, { "buffer": 0, "byteOffset": 48, "byteLength": 12 }],
        "accessors": [
            { "bufferView": 0, "componentType": 5126, "count": 4, "type": "VEC3", "min": [-1, -1, 0], "max": [1, 1, 0] },
            { "bufferView": 1, "componentType": 5123, "count": 6, "type": "SCALAR" }
        ]
    });
    container(json, &data)
}
