import { api, type Schemas, take } from '../api/client';

const PART = 16 * 1024 * 1024;

/** Uploads a file part by part. One that was cut off continues where it ended. */
export async function uploadMedia(file: File, show: (upload: Schemas['MediaUploadView']) => void) {
  let upload = await take(api.POST('/api/v1/media-uploads', { body: { file: file.name, size: file.size } }));
  while (upload.state === 'receiving') {
    show(upload);
    upload = await take(
      api.PUT('/api/v1/media-uploads/{id}', {
        params: { path: { id: upload.id }, query: { offset: upload.received } },
        body: file.slice(upload.received, upload.received + PART) as never,
        bodySerializer: (part: unknown) => part as Blob,
        headers: { 'Content-Type': 'application/octet-stream' },
      }),
    );
  }
}
