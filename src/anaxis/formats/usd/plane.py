"""An image plane in USD: a quad below the camera, with the plate on it as a texture that changes over the frames."""

from __future__ import annotations

import numpy as np
from pxr import Gf, Sdf, UsdGeom, UsdShade, Vt

from anaxis.core.image_plane import CORNERS, ON_PICTURE, ImagePlane, Pictures
from anaxis.core.outgoing import Outgoing
from anaxis.core.space.axes import Convention
from anaxis.formats.file_axes import is_still
from anaxis.formats.usd.samples import set_samples


def write_plane(camera: UsdGeom.Camera, outgoing: Outgoing, plane: ImagePlane, convention: Convention) -> None:
    """The quad as a child of its camera, whose own axes it is in."""
    stage, frames = camera.GetPrim().GetStage(), outgoing.track.frames
    mesh = UsdGeom.Mesh.Define(stage, camera.GetPath().AppendChild("image_plane"))
    mesh.CreatePointsAttr([Gf.Vec3f(*p) for p in CORNERS.tolist()])
    mesh.CreateFaceVertexCountsAttr([4])
    mesh.CreateFaceVertexIndicesAttr([0, 1, 2, 3])
    mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    mesh.CreateDoubleSidedAttr(True)
    mesh.CreateDisplayOpacityAttr([plane.opacity])
    on_picture = UsdGeom.PrimvarsAPI(mesh).CreatePrimvar(
        "st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.vertex
    )
    on_picture.Set([Gf.Vec2f(*p) for p in ON_PICTURE.tolist()])
    local = plane.in_units(convention.metres_per_unit)
    rows = Vt.Matrix4dArray.FromNumpy(np.ascontiguousarray(np.swapaxes(local, 1, 2)))
    attr = mesh.AddTransformOp().GetAttr()
    if is_still(local):
        attr.Set(rows[0])
    else:
        set_samples(attr, frames, list(rows))
    if plane.pictures is not None and plane.pictures.files:
        _texture(mesh, plane.pictures, plane.opacity)


def _texture(mesh: UsdGeom.Mesh, pictures: Pictures, opacity: float) -> None:
    stage, path = mesh.GetPrim().GetStage(), mesh.GetPath()
    material = UsdShade.Material.Define(stage, path.AppendChild("material"))
    surface = UsdShade.Shader.Define(stage, material.GetPath().AppendChild("surface"))
    surface.CreateIdAttr("UsdPreviewSurface")
    surface.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f).Set(Gf.Vec3f(0, 0, 0))
    surface.CreateInput("opacity", Sdf.ValueTypeNames.Float).Set(opacity)
    texture = UsdShade.Shader.Define(stage, material.GetPath().AppendChild("plate"))
    texture.CreateIdAttr("UsdUVTexture")
    file = texture.CreateInput("file", Sdf.ValueTypeNames.Asset)
    frames = np.array(sorted(pictures.files), dtype=np.float64)
    file.Set(Sdf.AssetPath(pictures.files[int(frames[0])]))
    set_samples(file.GetAttr(), frames, [Sdf.AssetPath(pictures.files[int(f)]) for f in frames])
    st = UsdShade.Shader.Define(stage, material.GetPath().AppendChild("st"))
    st.CreateIdAttr("UsdPrimvarReader_float2")
    st.CreateInput("varname", Sdf.ValueTypeNames.Token).Set("st")
    st.CreateOutput("result", Sdf.ValueTypeNames.Float2)
    texture.CreateInput("st", Sdf.ValueTypeNames.Float2).ConnectToSource(st.ConnectableAPI(), "result")
    texture.CreateOutput("rgb", Sdf.ValueTypeNames.Float3)
    # The plate shines by itself: no light of the scene falls on it.
    surface.CreateInput("emissiveColor", Sdf.ValueTypeNames.Color3f).ConnectToSource(texture.ConnectableAPI(), "rgb")
    surface.CreateOutput("surface", Sdf.ValueTypeNames.Token)
    material.CreateSurfaceOutput().ConnectToSource(surface.ConnectableAPI(), "surface")
    UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(material)
