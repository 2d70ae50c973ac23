// Photos of a visit, made small enough to wait in the phone; what the camera wrote of itself is left out.
const LONGEST_SIDE = 1600;
export const MOST = 4;

const toBase64 = (blob) =>
  new Promise((done, failed) => {
    const reader = new FileReader();
    reader.onload = () => done(reader.result.split(",")[1]);
    reader.onerror = () => failed(reader.error);
    reader.readAsDataURL(blob);
  });

// Throws where the file is no picture this browser can draw.
export const shrink = async (file) => {
  const image = await createImageBitmap(file);
  const scale = Math.min(1, LONGEST_SIDE / Math.max(image.width, image.height));
  const canvas = document.createElement("canvas");
  canvas.width = Math.round(image.width * scale);
  canvas.height = Math.round(image.height * scale);
  canvas.getContext("2d").drawImage(image, 0, 0, canvas.width, canvas.height);
  const blob = await new Promise((done) => canvas.toBlob(done, "image/jpeg", 0.8));
  return { name: file.name.slice(-100), jpeg: await toBase64(blob) };
};
