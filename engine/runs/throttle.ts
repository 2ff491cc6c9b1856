/** Holds whoever passes bytes back to a rate, over the whole of the time. */
export class Throttle {
  private bytes = 0
  private readonly from = Date.now()

  constructor(private readonly bytesPerSecond: number) {}

  async pass(bytes: number): Promise<void> {
    this.bytes += bytes
    const ahead = (this.bytes / this.bytesPerSecond) * 1000 - (Date.now() - this.from)
    if (ahead > 5) await new Promise((resolve) => setTimeout(resolve, ahead))
  }
}
